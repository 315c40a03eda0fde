import { kindRank, type PointKind } from './kind.ts';

/** Event classes as bits: 1, 2 and 4 for the classes 1, 2 and 3. */
export const ALL_EVENT_CLASSES = 7;

/**
 * Keeps an event from being stored twice.
 *
 * A device sends an event again until it has seen our confirm, and the confirm goes out only after the event is
 * committed. So when the engine dies, the link breaks, a confirm is lost or the commit is slow in between, events that
 * are stored come once more. The guard knows the stored events whose confirm may not have arrived (they are kept in
 * the same transaction) and tells which of the next ones are those.
 *
 * Rules:
 * 1. A fragment is remembered from its arrival. The next fragment of the same answer shows that its confirm arrived:
 *    the device waits for it. So only the last fragment of an answer stays in question.
 * 2. What an answer left in question is forgotten when a later answer is complete that had to carry it again: one to
 *    a read of at least the same classes. An answer to a read of other classes says nothing about it.
 * 3. After a (re)start of the conversation everything remembered is in question, of whatever class, until one complete
 *    answer to a read of all classes has come: whatever the device still holds is in it. Until then any event equal to
 *    a remembered one is a repetition.
 * 4. Out of that doubt, only an event with a time stamp equal to a remembered one is: same point, value, flags and
 *    millisecond. One without a time stamp may well be a new, equal one.
 */
export class ReplayGuard {
  /**
   * Keys that earlier answers left in question, oldest first, by the classes (bits) of the reads that brought them.
   * Few as they are, a search through them costs less than an index would.
   */
  private readonly questions = new Map<number, number[]>();
  /** Keys of the last fragment. */
  private latest: number[] = [];
  private latestClasses = ALL_EVENT_CLASSES;
  private inDoubt = true;

  constructor(remembered: readonly number[] = []) {
    this.leaveInQuestion([...remembered], ALL_EVENT_CLASSES);
  }

  /** The conversation began anew, or a confirm went out too late to count on. */
  doubt(): void {
    this.latestClasses = ALL_EVENT_CLASSES;
    this.keepLatest();
    this.inDoubt = true;
  }

  /**
   * A complete answer to a read of these classes (bits) has been taken; of those in `waiting` the device says that it
   * holds more.
   */
  settle(classes: number = ALL_EVENT_CLASSES, waiting = 0): void {
    const told = classes & ~waiting;
    for (const of of this.questions.keys()) if ((of & ~told) === 0) this.questions.delete(of);
    this.keepLatest();
    if (classes === ALL_EVENT_CLASSES) this.inDoubt = false;
  }

  /**
   * Takes the events of one fragment, in order, each by its key (see `eventKey`); returns for each whether it is new.
   * `isTimed` says whether the device gave the event at that place a time; `classes` are the classes of the read
   * (bits), `first` says whether the fragment begins an answer.
   */
  admit(
    keys: readonly number[],
    isTimed: (at: number) => boolean,
    { classes, first }: { classes: number; first: boolean } = { classes: ALL_EVENT_CLASSES, first: true },
  ): boolean[] {
    // Two answers without the end of the first one between them: it was cut off.
    if (first) this.keepLatest();
    const fresh = keys.map((key, at) => (!this.inDoubt && !isTimed(at)) || !this.takeOne(key));
    this.latest = [...keys];
    this.latestClasses = classes;
    return fresh;
  }

  /** What has to be remembered together with the events just admitted. */
  remembered(): number[] {
    return this.latest.concat(...this.questions.values());
  }

  private keepLatest(): void {
    this.leaveInQuestion(this.latest, this.latestClasses);
    this.latest = [];
  }

  private leaveInQuestion(keys: number[], classes: number): void {
    const known = this.questions.get(classes);
    if (known === undefined) this.questions.set(classes, keys);
    else for (const key of keys) known.push(key);
    if (known !== undefined && known.length > MAX_KEPT) known.splice(0, known.length - MAX_KEPT);
  }

  private takeOne(key: number): boolean {
    for (const keys of this.questions.values()) {
      const at = keys.indexOf(key);
      if (at < 0) continue;
      keys[at] = keys[keys.length - 1];
      keys.pop();
      return true;
    }
    return false;
  }
}

/** Far more than answers leave in question; a device that ends no answer loses its oldest. */
const MAX_KEPT = 5000;

const scratch = new DataView(new ArrayBuffer(16));

/**
 * What makes two events the same, as a number of 53 bits: two different events of one fragment share it once in some
 * 10^15 cases. Multiply-and-shift mixing of the fields in two lanes.
 */
export function eventKey(
  kind: PointKind,
  index: number,
  value: number,
  flags: number,
  time: number | null,
  text = '',
): number {
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
  for (let at = 0; at < text.length; at++) mix(text.charCodeAt(at));
  mix((index << 8) | (flags & 0xff));
  mix(scratch.getInt32(0));
  mix(scratch.getInt32(4));
  mix(scratch.getInt32(8));
  mix(scratch.getInt32(12));
  mix(0x27d4eb2f);
  return (a >>> 0) * 0x20_0000 + ((b >>> 0) & 0x1f_ffff);
}
