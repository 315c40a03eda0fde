import type { PointKind } from '../../../point/index.ts';

export interface BufferedEvent {
  /** Counts up; the order in which events came about. */
  number: number;
  kind: PointKind;
  index: number;
  class: 1 | 2 | 3;
  value: number;
  flags: number;
  time: number;
  /** Object variation in which it is reported unless the master asks for another. */
  variation: number;
  /** Of a text: what it became. */
  text?: string;
  /** Of a command that was given: the status it got; `value` is what was asked for. */
  status?: number;
}

interface Slot {
  event: BufferedEvent;
  /** Reported in an answer whose confirm has not come yet. */
  reported: boolean;
  /** Confirmed or dropped: passed over until its queue is tidied. */
  gone: boolean;
}

/** Events of one class in their order. Taking the oldest, and any other, costs the same however many there are. */
class Queue {
  size = 0;
  private slots: Slot[] = [];
  private head = 0;

  push(slot: Slot): void {
    this.slots.push(slot);
    this.size++;
  }

  remove(slot: Slot): void {
    slot.gone = true;
    this.size--;
    while (this.head < this.slots.length && this.slots[this.head].gone) this.head++;
    // Those that are gone never outnumber those that are there by much.
    if (this.slots.length > 2 * this.size + 64) {
      this.slots = this.slots.slice(this.head).filter(({ gone }) => !gone);
      this.head = 0;
    }
  }

  oldest(): Slot | undefined {
    return this.slots[this.head];
  }

  *[Symbol.iterator](): Generator<Slot> {
    for (let at = this.head; at < this.slots.length; at++) if (!this.slots[at].gone) yield this.slots[at];
  }
}

const CLASSES = [1, 2, 3] as const;

/**
 * The events that an outstation keeps until the master confirms them, in order. Each class has a bound; when one more
 * comes, the oldest event of that class goes and `overflowed` stays set until events are confirmed
 * (IEEE 1815, clause 4.2.2.7.7 for the indication).
 */
export class EventBuffer {
  private readonly queues = { 1: new Queue(), 2: new Queue(), 3: new Queue() };
  private readonly slots = new Map<number, Slot>();
  private readonly reported = new Set<Slot>();
  private next = 1;
  overflowed = false;
  dropped = 0;

  constructor(readonly perClass: number) {}

  get size(): number {
    return this.slots.size;
  }

  add(event: Omit<BufferedEvent, 'number'>): BufferedEvent {
    const queue = this.queues[event.class];
    const oldest = queue.oldest();
    if (queue.size >= this.perClass && oldest !== undefined) {
      this.remove(oldest);
      this.overflowed = true;
      this.dropped++;
    }
    const kept = { ...event, number: this.next++ };
    const slot = { event: kept, reported: false, gone: false };
    queue.push(slot);
    this.slots.set(kept.number, slot);
    return kept;
  }

  private remove(slot: Slot): void {
    this.queues[slot.event.class].remove(slot);
    this.slots.delete(slot.event.number);
    this.reported.delete(slot);
  }

  /** Oldest first, those not reported yet that the filter wants, at most `limit`. */
  *waiting(wanted: (event: BufferedEvent) => boolean, limit = Infinity): Generator<BufferedEvent> {
    const queues = CLASSES.map((n) => this.queues[n][Symbol.iterator]());
    const heads = queues.map((queue) => queue.next());
    for (let given = 0; given < limit;) {
      // The one that came first of the three.
      let first = -1;
      for (const [i, { done, value }] of heads.entries())
        if (!done && (first < 0 || value.event.number < (heads[first].value as Slot).event.number)) first = i;
      if (first < 0) return;
      const slot = heads[first].value as Slot;
      heads[first] = queues[first].next();
      if (slot.reported || !wanted(slot.event)) continue;
      given++;
      yield slot.event;
    }
  }

  /** Whether a class has events that no answer under way carries. */
  hasWaiting(eventClass: 1 | 2 | 3): boolean {
    for (const { reported } of this.queues[eventClass]) if (!reported) return true;
    return false;
  }

  /** These go out with an answer; returns them, oldest first. */
  markReported(numbers: ReadonlySet<number>): BufferedEvent[] {
    return [...numbers]
      .sort((a, b) => a - b)
      .flatMap((number) => {
        const slot = this.slots.get(number);
        if (slot === undefined || slot.reported) return [];
        slot.reported = true;
        this.reported.add(slot);
        return slot.event;
      });
  }

  /** Drops the events that the filter does not want: their points are gone. */
  keepOnly(wanted: (event: BufferedEvent) => boolean): void {
    for (const slot of [...this.slots.values()]) if (!wanted(slot.event)) this.remove(slot);
  }

  /** No confirm came: what was reported waits again. */
  unmark(): void {
    for (const slot of this.reported) slot.reported = false;
    this.reported.clear();
  }

  /** The confirm came. Returns the events that are done with. */
  confirm(): BufferedEvent[] {
    const done = [...this.reported];
    for (const slot of done) this.remove(slot);
    if (done.length > 0) this.overflowed = false;
    return done.map(({ event }) => event).sort((a, b) => a.number - b.number);
  }
}
