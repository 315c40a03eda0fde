import type { DeviceConfig } from '@halvix/core/config';
import { qualityFromFlags, type MeasuredReading, type ReceivedFragment } from '@halvix/core/dnp3';
import {
  eventKey,
  LEVEL_WORDS,
  LimitWatch,
  Quality,
  rangeQuality,
  ReplayGuard,
  scaledValue,
  type Reading,
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

/** Device times later than this cannot be real, and no calendar here holds them: 9999-12-31. */
const LAST_INSTANT = 253_402_300_799_999;

/** The way of one device's readings into the exchange and into history, each event once. */
export class Ingest {
  private readonly guard: ReplayGuard;
  private readonly watches = new Map<number, LimitWatch>();
  private filter: HistoryFilter;
  private timer: NodeJS.Timeout | null = null;
  lastCommit: number | null = null;
  /** Readings of points that are not in the list. */
  unlisted = 0;

  constructor(
    private device: DeviceConfig,
    remembered: readonly number[],
    private readonly context: IngestContext,
  ) {
    this.guard = new ReplayGuard(remembered);
    this.filter = new HistoryFilter(device.points);
  }

  /** Goes on with another list. */
  adopt(device: DeviceConfig): void {
    this.device = device;
    this.filter = new HistoryFilter(device.points);
    this.watches.clear();
  }

  /** The keys that whoever goes on with this device has to know: some may not be in the database yet. */
  get remembered(): number[] {
    return this.guard.remembered();
  }

  close(): void {
    if (this.timer !== null) clearTimeout(this.timer);
  }

  /** What the device still holds is in doubt: events may come again. */
  doubt(): void {
    this.guard.doubt();
  }

  /** It has told all that it holds. */
  settle(classes?: number, waiting?: number): void {
    this.guard.settle(classes, waiting);
  }

  /** Takes the readings of one fragment; `committed` is called once they are stored, when the device waits for that. */
  take(
    measured: readonly MeasuredReading[],
    received: ReceivedFragment,
    committed: (() => void) | null,
    from?: { classes: number; first: boolean },
  ): void {
    const now = clock.now();
    const { exchange, historian } = this.context;
    const isFresh = this.freshEvents(measured, from);
    const carrier: Carrier = { received, committed: null };
    const stored: StoredReading[] = [];
    let event = 0;
    for (const one of measured) {
      if (one.event && !isFresh[event++]) continue;
      const point = exchange.at(this.device.code, one.kind, one.index);
      if (point === undefined) {
        this.unlisted++;
        continue;
      }
      const reading = toReading(one, point, now);
      this.watchLimits(point, reading, now);
      if (this.filter.wants(point, reading)) stored.push(reading);
      for (const follower of this.filter.triggeredBy(point, reading)) {
        const followed = exchange.at(this.device.code, follower.kind, follower.index);
        if (followed?.reading) stored.push({ ...followed.reading, pointId: followed.id, time: reading.time });
      }
      if (one.event && (one.kind === 'binary' || one.kind === 'doubleBit')) this.noteStateChange(point, reading);
      exchange.put(point, reading, { measured: one, carrier });
    }
    const guard = committed === null ? null : { device: this.device.code, keys: this.guard.remembered() };
    historian.add({
      readings: stored,
      guard,
      stored: (at, batch) => {
        this.lastCommit = at;
        carrier.committed = { at, batch };
        for (const { pointId } of stored) exchange.touch(pointId);
        committed?.();
      },
    });
  }

  /** For each event of a fragment, in order, whether it was not stored before. */
  private freshEvents(measured: readonly MeasuredReading[], from?: { classes: number; first: boolean }): boolean[] {
    const events = measured.filter(({ event }) => event);
    const keys = events.map(({ kind, index, value, flags, time, text }) =>
      eventKey(kind, index, value, flags, time, text),
    );
    return this.guard.admit(keys, (at) => events[at].time !== null, from);
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
    this.armLimits();
  }

  private noteLevel(point: LivePoint, { level }: LimitWatch, value: number, time: number): void {
    const { name, unit } = point.config;
    const shown = `${Number(value.toPrecision(6))}${unit ? ` ${unit}` : ''}`;
    const words = level === null ? `back within limits, ${shown}` : `beyond ${LEVEL_WORDS[level]}, ${shown}`;
    this.context.journal.noteChange(this.device.code, `${name}: ${words}`, time);
  }

  /** Wakes for the earliest limit whose delay runs. */
  private armLimits(): void {
    if (this.timer !== null) return;
    const deadlines = [...this.watches.values()].flatMap(({ deadline }) => deadline ?? []);
    if (deadlines.length === 0) return;
    this.timer = setTimeout(
      () => {
        this.timer = null;
        const now = clock.now();
        for (const [id, watch] of this.watches) {
          const point = this.context.exchange.get(id);
          if (!point?.reading || !watch.wake(now)) continue;
          this.noteLevel(point, watch, point.reading.value, now);
          this.context.exchange.setLimit(point, watch.level);
        }
        this.armLimits();
      },
      Math.max(0, Math.min(...deadlines) - clock.now()),
    );
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
    if (stored.length > 0) historian.add({ readings: stored, guard: null, stored: () => {} });
  }
}

function toReading(one: MeasuredReading, point: LivePoint, now: number): StoredReading {
  let quality = qualityFromFlags(one.kind, one.flags);
  let raw = one.value;
  if (!Number.isFinite(raw)) {
    quality |= Number.isNaN(raw) ? Quality.referenceError : Quality.overRange;
    raw = Number.isNaN(raw) ? 0 : Math.sign(raw) * Number.MAX_VALUE;
  }
  const credible = one.time !== null && one.time <= LAST_INSTANT;
  return {
    pointId: point.id,
    raw,
    value: scaledValue(raw, point.config),
    ...(one.text === undefined ? {} : { text: one.text }),
    quality: quality | rangeQuality(raw, point.config) | (point.config.inService ? 0 : Quality.outOfService),
    time: credible ? (one.time ?? now) : now,
    timeSource: credible ? one.timeSource : 'receipt',
    received: now,
    cause: one.event ? 'event' : 'static',
  };
}
