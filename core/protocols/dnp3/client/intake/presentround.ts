import type { ListedPoint } from './carried.ts';

/**
 * Which of the listed points a round of present values has brought. Where a part of it was refused or could not be read,
 * nobody reads the others: they are told as such, until a round brings them.
 */
export class PresentRound {
  private readonly seen = new Set<number>();
  private isTroubled = false;
  private told = '';

  constructor(
    private listed: readonly ListedPoint[],
    private readonly tell: (points: readonly number[], words: string) => void,
  ) {}

  setPoints(listed: readonly ListedPoint[]): void {
    this.listed = listed;
  }

  /** By whatever answer: what comes as an event is known too. */
  saw(readings: readonly { id: number | null }[]): void {
    for (const { id } of readings) if (id !== null) this.seen.add(id);
  }

  /** A part of it has brought nothing that can be read. */
  lost(): void {
    this.isTroubled = true;
  }

  /** `isPartial`: parts of it are known not to be there, and were not asked for. */
  ends(isPartial: boolean): void {
    const missing =
      this.isTroubled || isPartial ? this.listed.filter(({ id }) => !this.seen.has(id)).map(({ id }) => id) : [];
    this.seen.clear();
    this.isTroubled = false;
    const key = missing.join(' ');
    if (key === this.told) return;
    this.told = key;
    const some = missing.length === 1 ? '1 point' : `${missing.length} points`;
    this.tell(missing, missing.length === 0 ? '' : `no answer that can be read brings ${some} of the list`);
  }
}
