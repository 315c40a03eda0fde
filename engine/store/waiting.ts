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

/** What waits to be written, by device. Devices take turns, so that one with much to store is in nobody's way. */
export class WaitingEntries<Entry extends WaitingEntry> {
  /** Whose turn is next stands first. */
  private readonly queues = new Map<string, { entries: Entry[]; readings: number }>();
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
    const queue = this.queues.get(device);
    const share = this.maxLooks / Math.max(1, this.queues.size);
    if (mayDrop && this.readings > this.maxLooks && (queue?.readings ?? 0) > share) return false;
    if (queue === undefined) this.queues.set(device, { entries: [entry], readings: readings.length });
    else {
      queue.entries.push(entry);
      queue.readings += readings.length;
    }
    this.readings += readings.length;
    this.weight += weightOf(entry);
    return true;
  }

  /**
   * Up to a batch of what waits, an entry of each device in turn. A device's fragment waits while one before it is
   * under way, since its confirm speaks for both; other devices pass it.
   */
  take(isUnderWay: (device: string) => boolean): Entry[] {
    const taken: Entry[] = [];
    let room = this.maxBatch;
    // Whoever has nothing to give in one round has nothing in the next ones.
    for (let turn = [...this.queues.keys()]; turn.length > 0;) {
      const next: string[] = [];
      for (const device of turn) {
        const entries = this.queues.get(device)?.entries ?? [];
        const [entry] = entries;
        if (entry === undefined || (entry.keep !== null && isUnderWay(device))) continue;
        if (taken.length > 0 && entry.readings.length > room) return taken;
        this.takeFirst(device);
        taken.push(entry);
        room -= entry.readings.length;
        if (entries.length > 0) next.push(device);
      }
      turn = next;
    }
    return taken;
  }

  /** Everything that waits, each device's in its order. */
  takeAll(): Entry[] {
    const all = [...this.queues.values()].flatMap(({ entries }) => entries);
    this.queues.clear();
    [this.readings, this.weight] = [0, 0];
    return all;
  }

  /** The device's next turn comes after those of all others. */
  private takeFirst(device: string): void {
    const queue = this.queues.get(device);
    const entry = queue?.entries.shift();
    const size = entry?.readings.length ?? 0;
    this.readings -= size;
    if (entry) this.weight -= weightOf(entry);
    this.queues.delete(device);
    if (queue === undefined || queue.entries.length === 0) return;
    queue.readings -= size;
    this.queues.set(device, queue);
  }
}

/** Of an entry in memory, in readings: what it says beside them counts too. */
export const weightOf = ({ readings, owed }: WaitingEntry): number => readings.length + owed.length + 1;
