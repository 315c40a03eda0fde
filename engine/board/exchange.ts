import type { DeviceConfig, PointConfig } from '@halvix/core/config';
import { deadbandInUnits, Quality, type LimitLevel, type Reading } from '@halvix/core/point';
import { addressOf, type Carrying, type Measured } from '@halvix/core/protocols';
import type { StoredReading } from '@halvix/db';
import { LatestReadings } from './latest.ts';

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
  readonly id: number;
  readonly device: string;
  /** Its address as text: by it everybody else in the list and in the mappings names it. */
  readonly address: string;
  readonly config: PointConfig;
  /** Whether centres may see it: not while its device is on test, unless that was asked for. */
  passOn: boolean;
  /** Its deadband in its unit. */
  readonly deadband: number;
  /** The latest, each time as an object of its own. */
  readonly reading: Reading | null;
  readonly origin: Origin | null;
  /** As it was known before this engine began, or its device was taken out; null: it has been heard of since. */
  readonly recalled: Reading | null;
}

/** A point of the board: its readings stand in the columns of `LatestReadings`. */
class BoardPoint implements LivePoint {
  readonly deadband: number;
  recalled: Reading | null;
  /** It has something to be published. */
  isChanged = false;
  /** Its row may be another point's. */
  isGone = false;
  private carrier: Arrival | null;
  /** The measured value itself, where its carrier does not find it again. */
  private measured: Measured | null;
  /** Where in its carrier it stands (see `Carrying.place`). */
  private place: number;

  constructor(
    readonly id: number,
    readonly device: string,
    readonly address: string,
    readonly config: PointConfig,
    public passOn: boolean,
    readonly row: number,
    private readonly latest: LatestReadings,
    known: BoardPoint | undefined,
  ) {
    this.deadband = deadbandInUnits(config.deadband, config) ?? 0;
    this.recalled = known?.recalled ?? null;
    this.carrier = known?.carrier ?? null;
    this.measured = known?.measured ?? null;
    this.place = known?.place ?? 0;
  }

  get reading(): Reading | null {
    return this.isGone ? null : this.latest.of(this.row);
  }

  get origin(): Origin | null {
    const { carrier, place } = this;
    if (carrier === null) return null;
    const measured = this.measured ?? carrier.carried.again?.(place) ?? null;
    return measured === null ? null : { measured, carrier };
  }

  setOrigin(measured: Measured | null, carrier: Arrival | null): void {
    this.carrier = carrier;
    const place = measured === null ? undefined : carrier?.carried.place?.(measured);
    this.measured = place === undefined ? measured : null;
    this.place = place ?? 0;
  }
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
  private readonly latest = new LatestReadings();
  private readonly points = new Map<number, BoardPoint>();
  private readonly byAddress = new Map<string, Map<string, BoardPoint>>();
  private readonly listeners: Record<Stage, Set<Listener>> = { derive: new Set(), judge: new Set(), handOn: new Set() };
  /** Points that have something to be published, each once. */
  private changed: BoardPoint[] = [];
  /** Points whose device is gone, until `forget`: under another code they are the same. */
  private readonly departed = new Map<number, BoardPoint>();
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
    const byAddress = new Map<string, BoardPoint>();
    this.byAddress.set(device.code, byAddress);
    const passOn = device.life === 'inService' || device.life === 'outOfService' || device.passOnWhileOnTest;
    for (const config of device.points) {
      const address = addressOf(config);
      const id = numberOf(address);
      if (id === undefined) throw new Error(`${device.code} ${address} has no number`);
      const known = this.departed.get(id);
      const row = known?.row ?? this.latest.take();
      const point = new BoardPoint(id, device.code, address, config, passOn, row, this.latest, known);
      this.departed.delete(id);
      this.points.set(id, point);
      byAddress.set(address, point);
      live.push(point);
      if (this.latest.isThere(row)) this.note(point);
    }
    return live;
  }

  removeDevice(code: string): void {
    for (const point of this.byAddress.get(code)?.values() ?? []) {
      this.points.delete(point.id);
      this.departed.set(point.id, point);
    }
    this.byAddress.delete(code);
  }

  /** Points that are on no list any more are gone for good. */
  forget(): void {
    for (const point of this.departed.values()) {
      point.isGone = true;
      this.latest.release(point.row);
    }
    this.departed.clear();
  }

  /** What was known of a point before, and how it is to be seen until it is heard of. */
  recall(point: LivePoint, known: Reading, seen: Reading): void {
    this.put(point, seen, null);
    const own = this.own(point.id);
    if (own !== undefined) own.recalled = known;
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
  put({ id }: LivePoint, reading: Reading, measured: Measured | null, carrier: Arrival | null = null): boolean {
    const { latest } = this;
    const point = this.own(id);
    if (point === undefined) return false;
    const { row } = point;
    const unchanged = reading.cause === 'static' && latest.says(row, reading);
    point.recalled = null;
    if (unchanged) latest.setReceived(row, reading.received);
    else {
      // What it is beyond of its limits stays until somebody looks (see `LimitDesk`).
      const limit = latest.limitOf(row);
      latest.put(row, reading);
      if (limit !== null) latest.setLimit(row, limit);
      point.setOrigin(measured, carrier);
    }
    this.note(point);
    if (unchanged) return false;
    const moved = latest.move(row, reading, point.deadband);
    const change: Change = { what: 'reading', point, reading, moved, level: latest.limitOf(row) };
    if (this.gathered !== null) this.gathered.push(change);
    else this.tell([change]);
    return moved;
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
  setLimit({ id }: LivePoint, limit: Reading['limit']): void {
    const point = this.own(id);
    if (!point || !this.latest.isThere(point.row) || this.latest.limitOf(point.row) === (limit ?? null)) return;
    this.latest.setLimit(point.row, limit);
    this.note(point);
  }

  /** undefined: it is on no list any more, and takes nothing. */
  private own(id: number): BoardPoint | undefined {
    return this.points.get(id) ?? this.departed.get(id);
  }

  private note(point: BoardPoint): void {
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
    for (const { id, row } of points) if (this.latest.isThere(row)) readings.push(this.latest.stored(row, id));
    return { points, readings };
  }

  /** After a failed publication: try these again. */
  giveBack(points: readonly LivePoint[]): void {
    for (const { id } of points) {
      const point = this.points.get(id);
      if (point !== undefined) this.note(point);
    }
  }
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
