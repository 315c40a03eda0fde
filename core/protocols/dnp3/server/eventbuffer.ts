import type { PointKind } from '../../../point/index.ts';
import type { Instant } from '../../../session/index.ts';
import { EventNumbers, settledPart, type SettledPart } from '../../owed.ts';

export interface BufferedEvent {
  /** Ascends; the order in which events came about. */
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
 *
 * One that goes on for an earlier outstation is filled with what that one still owed. Until it has all of that, none of
 * its own events can be had: they would go out before older ones.
 */
export class EventBuffer {
  private readonly queues = { 1: new Queue(), 2: new Queue(), 3: new Queue() };
  private readonly slots = new Map<number, Slot>();
  private readonly reported = new Set<Slot>();
  private readonly numbers: EventNumbers;
  /** What is owed by an earlier one, and what has come meanwhile; null: all of it is there. */
  private filling: { owed: BufferedEvent[]; own: BufferedEvent[] } | null;
  /** Of each class: the numbers of those that went since somebody asked. */
  private readonly gone = { 1: [] as number[], 2: [] as number[], 3: [] as number[] };
  overflowed = false;
  dropped = 0;

  constructor(
    readonly perClass: number,
    before: { lastNumber: number; owes: boolean } = { lastNumber: 0, owes: false },
  ) {
    this.numbers = new EventNumbers(before.lastNumber);
    this.filling = before.owes ? { owed: [], own: [] } : null;
  }

  get size(): number {
    return this.slots.size + (this.filling?.owed.length ?? 0) + (this.filling?.own.length ?? 0);
  }

  add(event: Omit<BufferedEvent, 'number'>, now: Instant): BufferedEvent {
    const { kind, index, value, flags, time, variation, text, status } = event;
    const number = this.numbers.next(now);
    const kept: BufferedEvent = { number, kind, index, class: event.class, value, flags, time, variation };
    if (text !== undefined) kept.text = text;
    if (status !== undefined) kept.status = status;
    if (this.filling === null) this.put(kept);
    else this.filling.own.push(kept);
    return kept;
  }

  private put(event: BufferedEvent): void {
    const queue = this.queues[event.class];
    const oldest = queue.oldest();
    if (queue.size >= this.perClass && oldest !== undefined) {
      this.remove(oldest);
      this.overflowed = true;
      this.dropped++;
    }
    const slot = { event, reported: false, gone: false };
    queue.push(slot);
    this.slots.set(event.number, slot);
  }

  /** What an earlier outstation still owed, in any order; `last`: that was all. */
  fill(events: readonly BufferedEvent[], last: boolean): void {
    const { filling } = this;
    if (filling === null) return;
    for (const event of events) filling.owed.push(event);
    if (!last) return;
    this.filling = null;
    filling.owed.sort((a, b) => a.number - b.number);
    for (const event of filling.owed) this.put(event);
    for (const event of filling.own) this.put(event);
  }

  /** These are owed to nobody any more. */
  discard(events: readonly BufferedEvent[]): void {
    for (const event of events) this.gone[event.class].push(event.number);
  }

  /** All that are there, oldest first. */
  get all(): BufferedEvent[] {
    const there = [...this.slots.values()].map(({ event }) => event);
    const { owed = [], own = [] } = this.filling ?? {};
    return [...owed, ...there, ...own].sort((a, b) => a.number - b.number);
  }

  /** Of each class from which events went since it was asked last: how far it is settled. */
  takeSettled(): ({ class: 1 | 2 | 3 } & SettledPart)[] {
    if (this.filling !== null) return [];
    return CLASSES.flatMap((n) => {
      const gone = this.gone[n].splice(0);
      if (gone.length === 0) return [];
      return { class: n, ...settledPart(this.queues[n].oldest()?.event.number ?? null, this.numbers.last, gone) };
    });
  }

  private remove(slot: Slot): void {
    const { event } = slot;
    this.queues[event.class].remove(slot);
    this.slots.delete(event.number);
    this.reported.delete(slot);
    this.gone[event.class].push(event.number);
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
    if (this.filling !== null) {
      const { owed, own } = this.filling;
      this.discard([...owed, ...own].filter((event) => !wanted(event)));
      this.filling = { owed: owed.filter(wanted), own: own.filter(wanted) };
    }
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
