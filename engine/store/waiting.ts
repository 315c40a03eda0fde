export interface WaitingEntry {
  device: string;
  readings: readonly unknown[];
  /** What outbounds owe because of them. */
  owed: readonly unknown[];
  /** What the device's session has to have kept together with the readings; null: nothing. */
  keep: Uint8Array | null;
  /** Nothing but looks at present values: the next look tells the same. */
  mayDrop: boolean;
}

/** What waits of one device. It stays when nothing does: who comes and goes in a map all the time leaves garbage behind. */
interface Queue<Entry> {
  readonly device: string;
  entries: Entry[];
  readings: number;
  /** Whose number is lowest has the next turn. */
  turn: number;
}

/** What waits to be written, by device. Devices take turns, so that one with much to store is in nobody's way. */
export class WaitingEntries<Entry extends WaitingEntry> {
  private readonly queues = new Map<string, Queue<Entry>>();
  /** Those in which something waits, by their turns. */
  private order: Queue<Entry>[] = [];
  private turns = 0;
  /** How many readings wait. */
  readings = 0;
  /** With what is owed besides: what it weighs in memory. */
  weight = 0;

  constructor(
    /** Readings of a batch, of more than one entry. */
    private readonly maxBatch: number,
    /** Beyond so many waiting readings a device that has more than its share of them cannot add looks. */
    private readonly maxLooks: number,
  ) {}

  /** Returns whether it was taken; one that may not be dropped always is. */
  add(entry: Entry): boolean {
    const { device, readings, mayDrop } = entry;
    const queue = this.queues.get(device) ?? this.newQueue(device);
    const share = this.maxLooks / Math.max(1, this.order.length);
    if (mayDrop && this.readings > this.maxLooks && queue.readings > share) return false;
    if (queue.entries.length === 0) {
      queue.turn = ++this.turns;
      this.order.push(queue);
    }
    queue.entries.push(entry);
    queue.readings += readings.length;
    this.readings += readings.length;
    this.weight += weightOf(entry);
    return true;
  }

  private newQueue(device: string): Queue<Entry> {
    const queue: Queue<Entry> = { device, entries: [], readings: 0, turn: 0 };
    this.queues.set(device, queue);
    return queue;
  }

  /**
   * Up to a batch of what waits, an entry of each device in turn. A device's fragment waits while one before it is
   * under way, since its confirm speaks for both; other devices pass it.
   */
  take(isUnderWay: (device: string) => boolean): Entry[] {
    const taken: Entry[] = [];
    this.takeInto(taken, isUnderWay);
    if (taken.length > 0)
      this.order = this.order.filter(({ entries }) => entries.length > 0).sort((a, b) => a.turn - b.turn);
    return taken;
  }

  private takeInto(taken: Entry[], isUnderWay: (device: string) => boolean): void {
    let room = this.maxBatch;
    // Whoever has nothing to give in one round has nothing in the next ones.
    for (let round = this.order; round.length > 0;) {
      const next: Queue<Entry>[] = [];
      for (const queue of round) {
        const [entry] = queue.entries;
        if (entry === undefined || (entry.keep !== null && isUnderWay(queue.device))) continue;
        if (taken.length > 0 && entry.readings.length > room) return;
        this.takeFirst(queue);
        taken.push(entry);
        room -= entry.readings.length;
        if (queue.entries.length > 0) next.push(queue);
      }
      round = next;
    }
  }

  /** Everything that waits, each device's in its order. */
  takeAll(): Entry[] {
    const all = this.order.flatMap(({ entries }) => entries);
    this.queues.clear();
    this.order = [];
    [this.readings, this.weight] = [0, 0];
    return all;
  }

  /** The device's next turn comes after those of all others. */
  private takeFirst(queue: Queue<Entry>): void {
    const entry = queue.entries.shift();
    if (entry === undefined) return;
    const size = entry.readings.length;
    queue.readings -= size;
    queue.turn = ++this.turns;
    this.readings -= size;
    this.weight -= weightOf(entry);
  }
}

/** Of an entry in memory, in readings: what it says beside them counts too. */
export const weightOf = ({ readings, owed }: WaitingEntry): number => readings.length + owed.length + 1;
