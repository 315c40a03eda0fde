import type { NewJournalEntry } from '@halvix/db';
import { clock } from '@halvix/wire';

const MAX_WAITING = 500;
const CHANGES_PER_SECOND = 5;
const FOLD_MS = 60_000;
const MAX_FOLDED = 5000;
/** Lines about one subject in a minute; the others are counted. */
const LINES_A_MINUTE = 60;

interface Said {
  entry: NewJournalEntry;
  at: number;
  /** How often it was to be said since. */
  more: number;
}

/** What happened, for people; written with the next publication. Floods of state changes are summed up. */
export class Journal {
  private waiting: NewJournalEntry[] = [];
  private readonly said = new Map<string, Said>();
  /** Of each subject: lines in the minute that began then, and how many of them were left out. */
  private readonly lines = new Map<string, { since: number; count: number; left: number }>();
  private second = 0;
  private changes = 0;
  private leftOut = 0;
  onChange: () => void = () => {};

  /** What is said over and over is said once a minute, with how often it was. */
  note(subject: string, tone: NewJournalEntry['tone'], words: string): void {
    const now = clock.now();
    const key = `${subject} ${words}`;
    const said = tone === 'control' ? undefined : this.said.get(key);
    if (said !== undefined && now - said.at < FOLD_MS) {
      said.more++;
      return;
    }
    if (said !== undefined) this.summarise(said);
    if (this.said.size >= MAX_FOLDED) this.said.clear();
    this.said.set(key, { entry: { subject, tone, words, time: now }, at: now, more: 0 });
    if (tone !== 'control' && !this.hasRoom(subject, now)) return;
    this.push({ subject, tone, words, time: now });
  }

  /** A subject of which more is said than anybody reads is one line of how much it was. */
  private hasRoom(subject: string, now: number): boolean {
    this.sumUp(now);
    const own = this.lines.get(subject) ?? { since: now, count: 0, left: 0 };
    this.lines.set(subject, own);
    if (++own.count <= LINES_A_MINUTE) return true;
    own.left++;
    return false;
  }

  private sumUp(now: number): void {
    for (const [subject, { since, left }] of this.lines) {
      if (now - since < FOLD_MS) continue;
      this.lines.delete(subject);
      if (left > 0)
        this.push({ subject, tone: 'warning', words: `and ${left} more lines about it in a minute`, time: now });
    }
  }

  private push(entry: NewJournalEntry): void {
    if (this.waiting.length >= MAX_WAITING) return;
    this.waiting.push(entry);
    this.onChange();
  }

  private summarise({ entry, more }: Said): void {
    if (more > 0)
      this.push({
        ...entry,
        words: `${entry.words} (${more} more ${more === 1 ? 'time' : 'times'})`,
        time: clock.now(),
      });
  }

  /** A change of state of a point; only some of many in one second are kept. */
  noteChange(subject: string, words: string, time: number): void {
    const second = Math.floor(clock.now() / 1000);
    if (second !== this.second) {
      if (this.leftOut > 0)
        this.push({
          ...{ subject, tone: 'plain', time: clock.now() },
          words: `and ${this.leftOut} more changes of state in that second`,
        });
      this.second = second;
      this.changes = 0;
      this.leftOut = 0;
    }
    if (this.changes++ < CHANGES_PER_SECOND) this.push({ subject, tone: 'plain', words, time });
    else this.leftOut++;
  }

  take(): NewJournalEntry[] {
    const now = clock.now();
    for (const [key, said] of this.said)
      if (now - said.at >= FOLD_MS) {
        this.said.delete(key);
        this.summarise(said);
      }
    this.sumUp(now);
    return this.waiting.splice(0);
  }

  giveBack(entries: NewJournalEntry[]): void {
    this.waiting = [...entries, ...this.waiting].slice(0, MAX_WAITING);
  }
}
