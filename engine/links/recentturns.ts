import type { Turn } from '@halvix/core/line';

/** Turns kept for those who look at the line. */
const MOST = 240;
/** Room for so many at first; a line that is used much gets more. */
const FIRST = 16;
const NUMBERS = 5;

/**
 * The last turns of a line. Hardly anybody looks at them, and a thousand lines have a quarter of a million: their times
 * stand in one array of numbers, so that the memory's housekeeping has nothing of them to go through.
 */
export class RecentTurns {
  /** Of each turn: began, ended, waiting, sending, receiving; a ring once `MOST` are there. */
  private numbers = new Float64Array(FIRST * NUMBERS);
  private readonly texts: Pick<Turn, 'device' | 'words' | 'outcome'>[] = [];
  private added = 0;

  add({ device, words, outcome, began, ended, waitingMs, sendingMs, receivingMs }: Turn): void {
    const place = this.added % MOST;
    if (place * NUMBERS >= this.numbers.length) this.grow();
    this.texts[place] = this.textsLike(device, words, outcome);
    const at = place * NUMBERS;
    const { numbers } = this;
    numbers[at] = began;
    numbers[at + 1] = ended;
    numbers[at + 2] = waitingMs;
    numbers[at + 3] = sendingMs;
    numbers[at + 4] = receivingMs;
    this.added++;
  }

  /** In the order in which they were. */
  all(): Turn[] {
    const first = Math.max(0, this.added - MOST);
    return Array.from({ length: this.added - first }, (_, i) => {
      const place = (first + i) % MOST;
      const [began, ended, waitingMs, sendingMs, receivingMs] = this.numbers.subarray(place * NUMBERS);
      return { ...this.texts[place], began, ended, waitingMs, sendingMs, receivingMs };
    });
  }

  private grow(): void {
    const grown = new Float64Array(Math.min(MOST * NUMBERS, this.numbers.length * 2));
    grown.set(this.numbers);
    this.numbers = grown;
  }

  /** Turns say the same again and again. */
  private textsLike(
    device: string,
    words: string,
    outcome: Turn['outcome'],
  ): Pick<Turn, 'device' | 'words' | 'outcome'> {
    const before = this.texts[(this.added + MOST - 1) % MOST];
    if (before?.device === device && before.words === words && before.outcome === outcome) return before;
    return { device, words, outcome };
  }
}
