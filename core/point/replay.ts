import { kindRank, type PointKind } from './kind.ts';

/**
 * Keeps an event from being stored twice.
 *
 * A device sends an event again until it has seen our confirm, and the confirm goes out only after the event is
 * committed. So when the engine dies, the link breaks or the commit is slow in between, events that are stored come
 * once more. The guard knows the events of the last stored fragment (they are stored in the same transaction) and
 * tells which of the next ones are those.
 *
 * Rules:
 * 1. After a (re)start of the conversation the fate of the last confirm is in doubt, until one complete answer to a
 *    read of all classes has come: whatever the device still holds is in it.
 * 2. In doubt, any event equal to a remembered one is a repetition.
 * 3. Out of doubt, only an event with a time stamp equal to a remembered one is: same point, value, flags and
 *    millisecond. One without a time stamp may well be a new, equal one.
 * 4. A fragment is remembered until the next one with events comes: the device sends new ones only after it accepted
 *    the confirm of the one before. A fragment that repeats something shows that it did not: the rest of what was
 *    remembered may still come again, and stays. So does, in doubt, all that has not come again.
 */
export class ReplayGuard {
  private doubtful: Map<number, number>;
  private latest: number[] = [];
  private inDoubt = true;

  constructor(remembered: readonly number[] = []) {
    this.doubtful = counted(remembered);
  }

  /** The conversation began anew, or a confirm went out too late to count on. */
  doubt(): void {
    for (const key of this.latest) this.doubtful.set(key, (this.doubtful.get(key) ?? 0) + 1);
    this.latest = [];
    this.inDoubt = true;
  }

  /** A complete answer to a read of all classes has been taken. */
  settle(): void {
    this.inDoubt = false;
    this.doubtful = counted(this.latest);
    this.latest = [];
  }

  /**
   * Takes the events of one fragment, in order; returns for each whether it is new.
   * A key names the event (see `eventKey`); `timed` says whether the device gave it a time.
   */
  admit(events: readonly { key: number; timed: boolean }[]): boolean[] {
    if (events.length === 0) return [];
    const before = this.inDoubt ? new Map<number, number>() : counted(this.latest);
    this.latest = [];
    let repeats = false;
    const fresh = events.map(({ key, timed }) => {
      this.latest.push(key);
      if (!this.inDoubt && !timed) return true;
      const known = takeOne(this.doubtful, key) || takeOne(before, key);
      repeats ||= known;
      return !known;
    });
    if (repeats) for (const [key, count] of before) this.doubtful.set(key, (this.doubtful.get(key) ?? 0) + count);
    else if (!this.inDoubt) this.doubtful = new Map();
    return fresh;
  }

  /** What has to be remembered together with the events just admitted. */
  remembered(): number[] {
    const keys = [...this.latest];
    for (const [key, count] of this.doubtful) for (let i = 0; i < count; i++) keys.push(key);
    return keys;
  }
}

function counted(keys: readonly number[]): Map<number, number> {
  const counts = new Map<number, number>();
  for (const key of keys) counts.set(key, (counts.get(key) ?? 0) + 1);
  return counts;
}

function takeOne(counts: Map<number, number>, key: number): boolean {
  const count = counts.get(key) ?? 0;
  if (count === 0) return false;
  if (count === 1) counts.delete(key);
  else counts.set(key, count - 1);
  return true;
}

const scratch = new DataView(new ArrayBuffer(16));

/**
 * What makes two events the same, as a number of 53 bits: two different events of one fragment share it once in some
 * 10^15 cases. Multiply-and-shift mixing of the fields in two lanes.
 */
export function eventKey(kind: PointKind, index: number, value: number, flags: number, time: number | null): number {
  scratch.setFloat64(0, value);
  scratch.setFloat64(8, time ?? -1);
  let a = 0x2545f491 ^ kindRank(kind);
  let b = 0x1b873593 ^ index;
  const mix = (word: number): void => {
    a = Math.imul(a ^ word, 0x9e3779b1);
    a ^= a >>> 15;
    b = Math.imul(b ^ word ^ (a << 7), 0x85ebca77);
    b ^= b >>> 13;
  };
  mix((index << 8) | (flags & 0xff));
  mix(scratch.getInt32(0));
  mix(scratch.getInt32(4));
  mix(scratch.getInt32(8));
  mix(scratch.getInt32(12));
  mix(0x27d4eb2f);
  return (a >>> 0) * 0x20_0000 + ((b >>> 0) & 0x1f_ffff);
}
