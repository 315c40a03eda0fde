import type { PointKind } from '../point/index.ts';

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
}

/**
 * The events that an outstation keeps until the master confirms them, in order. Each class has a bound; when one more
 * comes, the oldest event of that class goes and `overflowed` stays set until events are confirmed
 * (IEEE 1815, clause 4.2.2.7.7 for the indication).
 */
export class EventBuffer {
  private slots: Slot[] = [];
  private counts = { 1: 0, 2: 0, 3: 0 };
  private next = 1;
  overflowed = false;
  dropped = 0;

  constructor(readonly perClass: number) {}

  get size(): number {
    return this.slots.length;
  }

  add(event: Omit<BufferedEvent, 'number'>): BufferedEvent {
    if (this.counts[event.class] >= this.perClass) {
      this.slots.splice(
        this.slots.findIndex((slot) => slot.event.class === event.class),
        1,
      );
      this.counts[event.class]--;
      this.overflowed = true;
      this.dropped++;
    }
    const kept = { ...event, number: this.next++ };
    this.slots.push({ event: kept, reported: false });
    this.counts[event.class]++;
    return kept;
  }

  /** Oldest first, those not reported yet that the filter wants, at most `limit`. */
  *waiting(wanted: (event: BufferedEvent) => boolean, limit = Infinity): Generator<BufferedEvent> {
    let given = 0;
    for (const { event, reported } of this.slots) {
      if (given >= limit) return;
      if (reported || !wanted(event)) continue;
      given++;
      yield event;
    }
  }

  /** Whether a class has events that no answer under way carries. */
  hasWaiting(eventClass: 1 | 2 | 3): boolean {
    return this.counts[eventClass] > 0 && this.slots.some((slot) => slot.event.class === eventClass && !slot.reported);
  }

  markReported(numbers: ReadonlySet<number>): void {
    for (const slot of this.slots) if (numbers.has(slot.event.number)) slot.reported = true;
  }

  /** Drops the events that the filter does not want: their points are gone. */
  keepOnly(wanted: (event: BufferedEvent) => boolean): void {
    this.slots = this.slots.filter(({ event }) => {
      const keep = wanted(event);
      if (!keep) this.counts[event.class]--;
      return keep;
    });
  }

  /** No confirm came: what was reported waits again. */
  unmark(): void {
    for (const slot of this.slots) slot.reported = false;
  }

  /** The confirm came. Returns the events that are done with. */
  confirm(): BufferedEvent[] {
    const done = this.slots.filter((slot) => slot.reported).map((slot) => slot.event);
    this.slots = this.slots.filter((slot) => !slot.reported);
    for (const event of done) this.counts[event.class]--;
    if (done.length > 0) this.overflowed = false;
    return done;
  }
}
