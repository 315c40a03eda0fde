/** Lines of one sort from one address in a minute; the others are counted. */
const LINES_A_MINUTE = 20;
/** Addresses that are told apart; beyond them all others are one. */
const MOST_KEYS = 1000;
const MINUTE_MS = 60_000;

export interface Folded<Entry> {
  /** The last of those that were left out. */
  entry: Entry;
  count: number;
}

/** Keeps what anybody can cause without an account from filling the log: some of it stands there, the rest as a number. */
export class SecurityFold<Entry extends { what: string; address: string }> {
  private readonly minutes = new Map<string, { since: number; lines: number; left: number; last: Entry }>();

  /** Whether the entry is to be written by itself. */
  takes(entry: Entry, now: number): boolean {
    const own = `${entry.what} ${entry.address}`;
    const key = this.minutes.has(own) || this.minutes.size < MOST_KEYS ? own : `${entry.what} `;
    const minute = this.minutes.get(key) ?? { since: now, lines: 0, left: 0, last: entry };
    this.minutes.set(key, minute);
    if (++minute.lines <= LINES_A_MINUTE) return true;
    minute.left++;
    minute.last = entry;
    return false;
  }

  /** What was left out in minutes that are over. */
  over(now: number): Folded<Entry>[] {
    const folded: Folded<Entry>[] = [];
    for (const [key, { since, left, last }] of this.minutes) {
      if (now - since < MINUTE_MS) continue;
      this.minutes.delete(key);
      if (left > 0) folded.push({ entry: last, count: left });
    }
    return folded;
  }
}
