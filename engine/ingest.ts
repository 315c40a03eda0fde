import type { DeviceConfig } from '@halvix/core/config';
import { addressOf, type Carrying, type Measured } from '@halvix/core/protocols';
import {
  LEVEL_WORDS,
  LimitWatch,
  Quality,
  rangeQuality,
  scaledValue,
  type PointKind,
  type Reading,
  type TimeSource,
} from '@halvix/core/point';
import type { StoredReading } from '@halvix/db';
import { clock } from '@halvix/wire';
import { withoutCommunication, type Carrier, type Exchange, type LivePoint } from './exchange.ts';
import type { Historian } from './historian.ts';
import { HistoryFilter } from './historyfilter.ts';
import type { Journal } from './journal.ts';

export interface IngestContext {
  exchange: Exchange;
  historian: Historian;
  journal: Journal;
}

export interface UnlistedPoint {
  kind: PointKind;
  /** As text. */
  address: string;
}
const MAX_UNLISTED = 10_000;

/** Device times later than this cannot be real, and no calendar here holds them: 9999-12-31. */
/** A clock that was never set begins in 1970 (common practice). */
const FIRST_INSTANT = Date.UTC(1971, 0, 1);
const LAST_INSTANT = 253_402_300_799_999;

/** The way of one device's readings into the exchange and into history, each event once. */
export class Ingest {
  private readonly watches = new Map<number, LimitWatch>();
  private filter: HistoryFilter;
  private timer: NodeJS.Timeout | null = null;
  private timerAt = 0;
  lastCommit: number | null = null;
  /** Points that come and are not in the list, by address. */
  readonly unlisted = new Map<string, UnlistedPoint>();

  constructor(
    private device: DeviceConfig,
    private readonly context: IngestContext,
  ) {
    this.filter = new HistoryFilter(device.points);
  }

  /** Goes on with another list. */
  adopt(device: DeviceConfig): void {
    this.device = device;
    this.filter = new HistoryFilter(device.points);
    this.watches.clear();
    this.unlisted.clear();
  }

  close(): void {
    if (this.timer !== null) clearTimeout(this.timer);
  }

  /**
   * Takes the readings of one message. When the device waits for that, `committed` is called once they are stored,
   * together with what its session keeps.
   */
  take(
    measured: readonly Measured[],
    carried: Carrying,
    commit: { keep: Uint8Array; committed: () => void } | null,
  ): void {
    const now = clock.now();
    const { exchange, historian } = this.context;
    const carrier: Carrier = { carried, committed: null };
    const stored: StoredReading[] = [];
    for (const one of measured) {
      const point = one.id === null ? undefined : exchange.get(one.id);
      if (point === undefined) {
        this.noteUnlisted(one, carried);
        continue;
      }
      const reading = toReading(one, point, now, this.device.settings);
      this.watchLimits(point, reading, now);
      if (this.filter.wants(point, reading)) stored.push(reading);
      for (const follower of this.filter.triggeredBy(point, reading)) {
        const followed = exchange.at(this.device.code, addressOf(follower));
        if (followed?.reading) stored.push({ ...followed.reading, pointId: followed.id, time: reading.time });
      }
      if (one.event && (one.kind === 'binary' || one.kind === 'doubleBit')) this.noteStateChange(point, reading);
      exchange.put(point, reading, { measured: one, carrier });
    }
    historian.add({
      readings: stored,
      keep: commit === null ? null : { device: this.device.code, octets: commit.keep },
      stored: (at, batch) => {
        this.lastCommit = at;
        carrier.committed = { at, batch };
        for (const { pointId } of stored) exchange.touch(pointId);
        commit?.committed();
      },
    });
  }

  private noteUnlisted(one: Measured, carried: Carrying): void {
    if (this.unlisted.size >= MAX_UNLISTED) return;
    const address = carried.address(one);
    this.unlisted.set(address, { kind: one.kind, address });
  }

  /** What the session keeps has changed without any readings. */
  keep(octets: Uint8Array): void {
    this.context.historian.add({ readings: [], keep: { device: this.device.code, octets }, stored: () => {} });
  }

  /** Limits of the value; a change of level is noted, and one that needs its delay is looked at again. */
  private watchLimits(point: LivePoint, reading: Reading, now: number): void {
    const { limits } = point.config;
    if (limits === null) return;
    const watch = this.watches.get(point.id) ?? new LimitWatch(limits);
    this.watches.set(point.id, watch);
    // A value that is not there is beyond nothing: the level stays as it was.
    const known = !(reading.quality & (Quality.notSet | Quality.offline | Quality.restart | Quality.commLost));
    if (known && watch.take(reading.value, now)) this.noteLevel(point, watch, reading.value, reading.time);
    reading.limit = watch.level;
    this.armLimits(watch.deadline, now);
  }

  private noteLevel(point: LivePoint, { level }: LimitWatch, value: number, time: number): void {
    const { name, unit } = point.config;
    const shown = `${Number(value.toPrecision(6))}${unit ? ` ${unit}` : ''}`;
    const words = level === null ? `back within limits, ${shown}` : `beyond ${LEVEL_WORDS[level]}, ${shown}`;
    this.context.journal.noteChange(this.device.code, `${name}: ${words}`, time);
  }

  /** Wakes for a limit whose delay runs, when no earlier one does. */
  private armLimits(at: number | null, now: number): void {
    if (at === null || (this.timer !== null && this.timerAt <= at)) return;
    if (this.timer !== null) clearTimeout(this.timer);
    this.timerAt = at;
    this.timer = setTimeout(() => this.wakeLimits(), Math.max(0, at - now));
  }

  private wakeLimits(): void {
    this.timer = null;
    const now = clock.now();
    let next: number | null = null;
    for (const [id, watch] of this.watches) {
      const { deadline } = watch;
      if (deadline === null) continue;
      const point = this.context.exchange.get(id);
      if (point?.reading && watch.wake(now)) {
        this.noteLevel(point, watch, point.reading.value, now);
        this.context.exchange.setLimit(point, watch.level);
      } else if (deadline > now) next = Math.min(next ?? deadline, deadline);
    }
    this.armLimits(next, now);
  }

  private noteStateChange(point: LivePoint, reading: Reading): void {
    const word = point.config.states?.[reading.raw] ?? String(reading.raw);
    this.context.journal.noteChange(this.device.code, `${point.config.name}: ${word}`, reading.time);
  }

  /** All points keep their last value and time, and say that there is no communication. */
  loseAll(): void {
    const now = clock.now();
    const { exchange, historian } = this.context;
    const stored: StoredReading[] = [];
    for (const point of exchange.ofDevice(this.device.code)) {
      if (point.reading === null || point.reading.quality & Quality.commLost) continue;
      const lost = withoutCommunication(point.reading);
      exchange.put(point, lost, null);
      stored.push({ ...lost, pointId: point.id, time: now, timeSource: 'engine', received: now });
    }
    if (stored.length > 0) historian.add({ readings: stored, keep: null, stored: () => {} });
  }
}

function toReading(one: Measured, point: LivePoint, now: number, spans: DeviceConfig['settings']): StoredReading {
  const { raw, quality } = one;
  const { time, timeSource } = judgedTime(one.time, one.timeSource, now, spans);
  return {
    pointId: point.id,
    raw,
    value: scaledValue(raw, point.config),
    ...(one.text === undefined ? {} : { text: one.text }),
    quality: quality | rangeQuality(raw, point.config) | (point.config.inService ? 0 : Quality.outOfService),
    time,
    timeSource,
    received: now,
    cause: one.event ? 'event' : 'static',
  };
}

/**
 * A time that cannot be (zero, of 1970, past the year 9999) gives way to the receipt's; one further off than the
 * device's settings allow stands as it was said, marked.
 */
function judgedTime(
  said: number | null,
  timeSource: TimeSource,
  now: number,
  { timeAheadMs, timeBehindMs }: DeviceConfig['settings'],
): { time: number; timeSource: TimeSource } {
  if (said === null) return { time: now, timeSource: 'receipt' };
  if (said < FIRST_INSTANT || said > LAST_INSTANT) return { time: now, timeSource: 'receiptInstead' };
  const isDoubtful = said > now + timeAheadMs || said < now - timeBehindMs;
  return { time: said, timeSource: isDoubtful ? 'deviceDoubtful' : timeSource };
}
