/** How long values of one way were on theirs, milliseconds: the last so many of them. */
const KEPT = 500;

export class Delays {
  private readonly last: number[] = [];
  count = 0;

  add(ms: number): void {
    this.count++;
    this.last.push(ms);
    if (this.last.length > KEPT) this.last.shift();
  }

  /** Of the last ones; null: there are none. */
  get summary(): { median: number; most: number } | null {
    if (this.last.length === 0) return null;
    const sorted = [...this.last].sort((a, b) => a - b);
    return { median: sorted[sorted.length >> 1], most: sorted[sorted.length - 1] };
  }
}
