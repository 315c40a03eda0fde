import type { DeviceConfig, PointConfig } from '@halvix/core/config';
import { deadbandInUnits, exceedsDeadband, Quality, type LimitLevel, type Reading } from '@halvix/core/point';
import { addressOf, type Carrying, type Measured } from '@halvix/core/protocols';
import type { StoredReading } from '@halvix/db';

/** What all readings of one message share: what carried them, and when they were stored. */
export interface Arrival {
  carried: Carrying;
  committed: { at: number; batch: number } | null;
}

/** Where a reading came from, kept for its trail. */
export interface Origin {
  measured: Measured;
  carrier: Arrival;
}

/** A point as the engine runs it. */
export interface LivePoint {
  id: number;
  device: string;
  /** Its address as text: by it everybody else in the list and in the mappings names it. */
  address: string;
  config: PointConfig;
  /** Whether centres may see it: not while its device is on test, unless that was asked for. */
  passOn: boolean;
  reading: Reading | null;
  origin: Origin | null;
  /** Its deadband in its unit. */
  deadband: number;
  /** The last reading that had moved (see `Change`). */
  moved: Reading | null;
  /** As it was known before this engine began, or its device was taken out; null: it has been heard of since. */
  recalled: Reading | null;
  /** It has something to be published. */
  isChanged: boolean;
}

/** A reading that says something new, or a point that is beyond another one of its limits since a delay is over. */
export interface Change {
  what: 'reading' | 'level';
  point: LivePoint;
  reading: Reading;
  /** Its value differs by the point's deadband from the last one that did, or its text or quality is another one. */
  moved: boolean;
  /** Beyond which of its limits it is: known from the stage `judge` on. */
  level: LimitLevel | null;
}

export type Listener = (changes: readonly Change[]) => void;

/**
 * What happens to changes, in this order, all of them in one stage before the next: points that are made of others are
 * derived, limits are judged, and what came of it is handed on.
 */
export const STAGES = ['derive', 'judge', 'handOn'] as const;
export type Stage = (typeof STAGES)[number];
/** What is derived may have something derived of it: so often. Circles are found when a configuration is checked. */
const MOST_ROUNDS = 16;

/** The board of the latest reading of every point. Whoever hands points on or shows them listens here. */
export class Exchange {
  private readonly points = new Map<number, LivePoint>();
  private readonly byAddress = new Map<string, Map<string, LivePoint>>();
  private readonly listeners: Record<Stage, Set<Listener>> = { derive: new Set(), judge: new Set(), handOn: new Set() };
  /** Points that have something to be published, each once. */
  private changed: LivePoint[] = [];
  /** Points whose device is gone, until `forget`: under another code they are the same. */
  private readonly departed = new Map<number, LivePoint>();
  /** What listeners are told of at the end of `together`. */
  private gathered: Change[] | null = null;
  /** Points whose trail somebody looks at. */
  readonly watched = new Set<number>();
  /** Called whenever something is there to be published. */
  onChange: () => void = () => {};

  get(id: number): LivePoint | undefined {
    return this.points.get(id);
  }

  at(device: string, address: string): LivePoint | undefined {
    return this.byAddress.get(device)?.get(address);
  }

  /** Takes over a device's list; points that stay keep their reading. */
  setDevice(device: DeviceConfig, numberOf: (address: string) => number | undefined): LivePoint[] {
    this.removeDevice(device.code);
    const live: LivePoint[] = [];
    const byAddress = new Map<string, LivePoint>();
    this.byAddress.set(device.code, byAddress);
    const passOn = device.life === 'inService' || device.life === 'outOfService' || device.passOnWhileOnTest;
    for (const config of device.points) {
      const address = addressOf(config);
      const id = numberOf(address);
      if (id === undefined) throw new Error(`${device.code} ${address} has no number`);
      const deadband = deadbandInUnits(config.deadband, config) ?? 0;
      const known = this.departed.get(id);
      // Written out, so that all points are of one shape: what reads them thousands of times a second knows it.
      const point: LivePoint = {
        id,
        device: device.code,
        address,
        config,
        passOn,
        reading: known?.reading ?? null,
        origin: known?.origin ?? null,
        deadband,
        moved: known?.moved ?? null,
        recalled: known?.recalled ?? null,
        isChanged: false,
      };
      this.departed.delete(id);
      this.points.set(id, point);
      byAddress.set(address, point);
      live.push(point);
      if (point.reading !== null) this.note(point);
    }
    return live;
  }

  removeDevice(code: string): void {
    for (const point of this.ofDevice(code)) {
      this.points.delete(point.id);
      this.departed.set(point.id, point);
    }
    this.byAddress.delete(code);
  }

  /** Points that are on no list any more are gone for good. */
  forget(): void {
    this.departed.clear();
  }

  /** What was known of a point before, and how it is to be seen until it is heard of. */
  recall(point: LivePoint, known: Reading, seen: Reading): void {
    this.put(point, seen, null);
    point.recalled = known;
  }

  devices(): string[] {
    return [...this.byAddress.keys()];
  }

  ofDevice(code: string): LivePoint[] {
    return [...(this.byAddress.get(code)?.values() ?? [])];
  }

  listen(stage: Stage, listener: Listener): () => void {
    this.listeners[stage].add(listener);
    return () => this.listeners[stage].delete(listener);
  }

  /**
   * Takes a reading. A look at the present value that finds what is known already keeps the known time: that is when
   * the value came about. Returns whether it has moved (see `Change`).
   */
  put(point: LivePoint, reading: Reading, origin: Origin | null): boolean {
    const known = point.reading;
    const unchanged =
      reading.cause === 'static' &&
      known !== null &&
      known.raw === reading.raw &&
      known.text === reading.text &&
      known.quality === reading.quality;
    // What it is beyond of its limits stays until somebody looks (see `LimitDesk`).
    const limit = known?.limit;
    point.reading = unchanged ? { ...known, received: reading.received } : limit ? { ...reading, limit } : reading;
    point.recalled = null;
    if (!unchanged) point.origin = origin;
    this.note(point);
    if (unchanged) return false;
    const level = point.reading.limit ?? null;
    const change: Change = { what: 'reading', point, reading, moved: hasMoved(point, reading), level };
    if (change.moved) point.moved = reading;
    if (this.gathered !== null) this.gathered.push(change);
    else this.tell([change]);
    return change.moved;
  }

  /** Listeners are told of all readings that `work` puts at once, in their order. */
  together(work: () => void): void {
    if (this.gathered !== null) throw new Error('readings are gathered already');
    this.gathered = [];
    try {
      work();
    } finally {
      const changes = this.gathered;
      this.gathered = null;
      if (changes.length > 0) this.tell(changes);
    }
  }

  private tell(changes: Change[]): void {
    const { derive, judge, handOn } = this.listeners;
    if (derive.size > 0) this.derive(changes, derive);
    for (const listener of judge) listener(changes);
    for (const listener of handOn) listener(changes);
  }

  /** What is put on the board meanwhile belongs to the same changes. */
  private derive(changes: Change[], listeners: ReadonlySet<Listener>): void {
    for (let fresh = changes, round = 0; fresh.length > 0 && round < MOST_ROUNDS; round++) {
      const derived: Change[] = (this.gathered = []);
      for (const listener of listeners) listener(fresh);
      this.gathered = null;
      changes.push(...derived);
      fresh = derived;
    }
  }

  /** Beyond another one of its limits, without a new reading. */
  tellLevel(point: LivePoint): void {
    const { reading } = point;
    if (reading === null) return;
    const change: Change = { what: 'level', point, reading, moved: false, level: reading.limit ?? null };
    for (const listener of this.listeners.handOn) listener([change]);
  }

  /** Which of its limits the value is beyond. */
  setLimit(point: LivePoint, limit: Reading['limit']): void {
    if (point.reading === null || (point.reading.limit ?? null) === (limit ?? null)) return;
    point.reading = { ...point.reading, limit };
    this.note(point);
  }

  private note(point: LivePoint): void {
    if (!point.isChanged) {
      point.isChanged = true;
      this.changed.push(point);
    }
    this.onChange();
  }

  /** Something about a point's trail changed, its reading did not: matters to those who watch it. */
  touch(pointId: number): void {
    if (this.watched.size === 0 || !this.watched.has(pointId)) return;
    const point = this.points.get(pointId);
    if (point) this.note(point);
  }

  /** Readings changed since the last call. */
  takeChanged(): { points: LivePoint[]; readings: StoredReading[] } {
    // One that is in no list any more has nothing to be published.
    const points = this.changed.filter((point) => this.points.get(point.id) === point);
    for (const point of this.changed) point.isChanged = false;
    this.changed = [];
    const readings: StoredReading[] = [];
    for (const { id, reading } of points) if (reading !== null) readings.push(storedAs(id, reading));
    return { points, readings };
  }

  /** After a failed publication: try these again. */
  giveBack(points: readonly LivePoint[]): void {
    for (const point of points) this.note(point);
  }
}

/** A reading that a session has made has its point's number already. */
const storedAs = (pointId: number, reading: Reading): StoredReading =>
  'pointId' in reading && reading.pointId === pointId ? (reading as StoredReading) : { ...reading, pointId };

function hasMoved({ moved, deadband }: LivePoint, { value, text, quality }: Reading): boolean {
  if (moved === null || moved.quality !== quality || moved.text !== text) return true;
  return exceedsDeadband(value, moved.value, deadband);
}

/** A reading that says that the device is out of reach: last value, last time. */
export const withoutCommunication = (reading: Reading): Reading => ({
  ...reading,
  quality: reading.quality | Quality.commLost,
  cause: 'engine',
});

/** A reading that says that nobody asks the device: last value, last time. */
export const takenOutOfService = (reading: Reading): Reading => ({
  ...reading,
  quality: (reading.quality & ~Quality.commLost) | Quality.outOfService,
  cause: 'engine',
});
