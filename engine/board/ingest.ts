import type { DeviceConfig } from '@halvix/core/config';
import { addressOf, type AnyDeviceRole, type Carrying, type Measured, deviceOf } from '@halvix/core/protocols';
import {
  isScaled,
  Quality,
  rangeQuality,
  rawValue,
  scaledValue,
  type PointKind,
  type Reading,
  type TimeSource,
} from '@halvix/core/point';
import type { StoredReading } from '@halvix/db';
import { clock } from '@halvix/wire';
import type { Contributions } from '../handon/contributions.ts';
import { type Arrival, type Exchange, type LivePoint } from './exchange.ts';
import type { Historian } from '../store/historian.ts';
import { HistoryFilter } from './historyfilter.ts';
import type { Journal } from '../journal.ts';

export interface IngestContext {
  exchange: Exchange;
  historian: Historian;
  contributions: Contributions;
  journal: Journal;
}

export interface UnlistedPoint {
  kind: PointKind;
  /** As text. */
  address: string;
}
const MAX_UNLISTED = 10_000;

/** A clock that was never set begins in 1970 (common practice). */
const FIRST_INSTANT = Date.UTC(1971, 0, 1);
/** Device times later than this cannot be real, and no calendar here holds them: 9999-12-31. */
const LAST_INSTANT = 253_402_300_799_999;

/** How far off a device's time may be before it is doubted. */
type TimeBounds = ReturnType<AnyDeviceRole['timeBounds']>;

/** What carries a value that is made up: nothing. */
const PLAYED: Carrying = {
  words: () => 'made up here, on test',
  form: () => '',
  said: () => null,
  frames: () => [],
  address: () => '',
};

/** The way of one device's readings into the exchange and into history, each event once. */
export class Ingest {
  private filter: HistoryFilter;
  private bounds: TimeBounds;
  lastCommit: number | null = null;
  /** Points whose values are made up, with what their device has said of them meanwhile. */
  private readonly playing = new Map<number, { measured: Measured; carried: Carrying } | null>();
  /** Points that come and are not in the list, by address. */
  readonly unlisted = new Map<string, UnlistedPoint>();

  constructor(
    private device: DeviceConfig,
    private readonly context: IngestContext,
  ) {
    this.filter = new HistoryFilter(device.points);
    this.bounds = deviceOf(device.protocol).timeBounds(device.settings);
  }

  /** Goes on with another list. */
  adopt(device: DeviceConfig): void {
    this.device = device;
    this.filter = new HistoryFilter(device.points);
    this.bounds = deviceOf(device.protocol).timeBounds(device.settings);
    this.unlisted.clear();
  }

  /**
   * Takes the readings of one message, together with what its session keeps. When the device waits for that, `committed`
   * is called once they are stored.
   */
  take(
    measured: readonly Measured[],
    carried: Carrying,
    commit: { keep: Uint8Array; committed: (() => void) | null } | null,
  ): void {
    const now = clock.now();
    const { exchange, historian, contributions } = this.context;
    const carrier: Arrival = { carried, committed: null };
    const stored: StoredReading[] = [];
    const take = (one: Measured): void => {
      const point = one.id === null ? undefined : exchange.get(one.id);
      if (point === undefined) {
        this.noteUnlisted(one, carried);
        return;
      }
      if (this.playing.size > 0 && this.playing.has(point.id) && carried !== PLAYED) {
        this.playing.set(point.id, { measured: one, carried });
        return;
      }
      const reading = toReading(one, point, now, this.bounds);
      const moved = exchange.put(point, reading, one, carrier);
      if (this.filter.wants(point, reading, moved)) stored.push(reading);
      if (this.filter.hasFollowers)
        for (const follower of this.filter.triggeredBy(point, reading)) {
          const followed = exchange.at(this.device.code, addressOf(follower));
          const latest = followed?.reading;
          if (followed && latest) stored.push(Object.assign(latest, { pointId: followed.id, time: reading.time }));
        }
      if (one.event && (one.kind === 'binary' || one.kind === 'doubleBit')) this.noteStateChange(point, reading);
    };
    const owed = contributions.during(() => exchange.together(() => measured.forEach(take)));
    historian.add({
      device: this.device.code,
      readings: stored,
      keep: commit?.keep ?? null,
      owed,
      confirms: commit?.committed != null,
      mayDrop: commit === null && owed.length === 0 && !measured.some(({ event }) => event),
      stored: (at, batch) => {
        this.lastCommit = at;
        carrier.committed = { at, batch };
        if (exchange.watched.size > 0) for (const { pointId } of stored) exchange.touch(pointId);
        commit?.committed?.();
      },
    });
  }

  // ---- values that are made up

  /** A value in the place of the device's own; `value`: in the unit of the point. */
  play({ id, config }: LivePoint, value: number): void {
    if (!this.playing.has(id)) this.playing.set(id, null);
    const { kind } = config;
    const measured: Measured = {
      ...{
        id,
        kind,
        raw: isScaled(kind) ? rawValue(value, config) : value,
        quality: Quality.forcedHere | Quality.test,
      },
      ...{ time: clock.now(), timeSource: 'engine', event: true },
    };
    this.take([measured], PLAYED, null);
  }

  /** The device's own value again: what it has said last meanwhile. */
  release(id: number): void {
    const own = this.playing.get(id) ?? null;
    this.playing.delete(id);
    if (own !== null) this.take([{ ...own.measured, event: false }], own.carried, null);
  }

  private noteUnlisted(one: Measured, carried: Carrying): void {
    if (this.unlisted.size >= MAX_UNLISTED) return;
    const address = carried.address(one);
    this.unlisted.set(address, { kind: one.kind, address });
  }

  /** What the session keeps has changed without any readings. */
  keep(octets: Uint8Array): void {
    const nothing = { readings: [], owed: [], mayDrop: false, confirms: false, stored: () => {} };
    this.context.historian.add({ device: this.device.code, keep: octets, ...nothing });
  }

  private noteStateChange(point: LivePoint, reading: Reading): void {
    const word = point.config.states?.[reading.raw] ?? String(reading.raw);
    this.context.journal.noteChange(this.device.code, `${point.config.name}: ${word}`, reading.time);
  }

  /** All points keep their last value and time, and say that there is no communication. */
  loseAll(): void {
    this.mark(this.context.exchange.ofDevice(this.device.code), Quality.commLost);
  }

  /** These cannot be had from the device now: last value and time, and they say so. */
  cannotRead(points: readonly number[]): void {
    this.mark(
      points.flatMap((id) => this.context.exchange.get(id) ?? []),
      Quality.offline,
    );
  }

  private mark(points: readonly LivePoint[], reason: number): void {
    const now = clock.now();
    const { exchange, historian, contributions } = this.context;
    const stored: StoredReading[] = [];
    const markEach = (): void => {
      for (const point of points) {
        const { reading, recalled } = point;
        if (reading === null || this.playing.has(point.id)) continue;
        // What was only recalled was told to nobody as lost.
        if (reading.quality & reason && !recalled) continue;
        const marked = { ...reading, quality: reading.quality | reason, cause: 'engine' as const };
        exchange.put(point, marked, null);
        if (!recalled || !(recalled.quality & reason))
          stored.push({ ...marked, pointId: point.id, time: now, timeSource: 'engine', received: now });
      }
    };
    const owed = contributions.during(() => exchange.together(markEach));
    if (stored.length + owed.length > 0)
      historian.add({
        ...{ device: this.device.code, readings: stored, keep: null, owed },
        ...{ mayDrop: false, confirms: false, stored: () => {} },
      });
  }
}

/** Of a double point that stands at none of its four positions. */
const BAD_STATE = 3;

function toReading(one: Measured, point: LivePoint, now: number, bounds: TimeBounds): StoredReading {
  const { quality, text } = one;
  let { raw } = one;
  const { config } = point;
  const { time, timeSource } = judgedTime(one.time, one.timeSource, now, bounds);
  // Written out, so that readings of numbers are all of one shape: thousands of them are made in a second.
  const isNowhere = config.kind === 'doubleBit' && !(raw === 0 || raw === 1 || raw === 2 || raw === 3);
  if (isNowhere) raw = BAD_STATE;
  const reading: StoredReading = {
    pointId: point.id,
    raw,
    value: scaledValue(raw, config),
    quality:
      quality |
      (isNowhere ? Quality.inconsistent : 0) |
      rangeQuality(raw, config) |
      (config.inService ? 0 : Quality.outOfService),
    time,
    timeSource,
    received: now,
    cause: one.event ? 'event' : 'static',
  };
  if (text !== undefined) reading.text = text;
  return reading;
}

/**
 * A time that cannot be (zero, of 1970, past the year 9999) gives way to the receipt's; one further off than the
 * device's settings allow stands as it was said, marked.
 */
function judgedTime(
  said: number | null,
  timeSource: TimeSource,
  now: number,
  bounds: TimeBounds,
): { time: number; timeSource: TimeSource } {
  if (said === null) return { time: now, timeSource: clock.isDoubtful ? 'receiptDoubtful' : 'receipt' };
  if (said < FIRST_INSTANT || said > LAST_INSTANT) return { time: now, timeSource: 'receiptInstead' };
  const isDoubtful = bounds !== null && (said > now + bounds.aheadMs || said < now - bounds.behindMs);
  return { time: said, timeSource: isDoubtful ? 'deviceDoubtful' : timeSource };
}
