const FREE_TRIES = 4;
const FIRST_PAUSE_MS = 1000;
const LONGEST_PAUSE_MS = 60_000;
const FORGET_AFTER_MS = 15 * 60_000;
const MAX_KEPT = 10_000;

/**
 * Slows down guessing: after a few failures each further one doubles the pause until the next try. Kept for addresses,
 * and for names from an address: nobody can be kept out from elsewhere.
 */
export class Throttle {
  private readonly failures = new Map<string, { count: number; last: number }>();

  /** Milliseconds until any of these may try again; 0: now. */
  pauseFor(keys: readonly string[], now: number): number {
    return Math.max(0, ...keys.map((key) => this.pauseOf(key, now)));
  }

  private pauseOf(key: string, now: number): number {
    const known = this.failures.get(key);
    if (known === undefined) return 0;
    if (now - known.last > FORGET_AFTER_MS) {
      this.failures.delete(key);
      return 0;
    }
    if (known.count < FREE_TRIES) return 0;
    const pause = Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** (known.count - FREE_TRIES));
    return Math.max(0, known.last + pause - now);
  }

  fail(keys: readonly string[], now: number): void {
    for (const key of keys) {
      const count = (this.failures.get(key)?.count ?? 0) + 1;
      // Put last: the first one in the map is the oldest.
      this.failures.delete(key);
      this.failures.set(key, { count, last: now });
    }
    while (this.failures.size > MAX_KEPT) {
      const [oldest] = this.failures.keys();
      this.failures.delete(oldest);
    }
  }

  /** A try that was counted beforehand was none of those that fail. */
  forgive(key: string): void {
    const known = this.failures.get(key);
    if (known === undefined) return;
    if (known.count <= 1) this.failures.delete(key);
    else known.count--;
  }

  succeed(keys: readonly string[]): void {
    for (const key of keys) this.failures.delete(key);
  }
}
