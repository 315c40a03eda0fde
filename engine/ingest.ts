import type { DeviceConfig } from '@halvix/core/config';
import { qualityFromFlags, type MeasuredReading, type ReceivedFragment } from '@halvix/core/dnp3';
import { eventKey, Quality, ReplayGuard, scale, type Reading } from '@halvix/core/point';
import type { StoredReading } from '@halvix/db';
import { clock } from '@halvix/wire';
import { withoutCommunication, type Carrier, type Exchange, type LivePoint } from './exchange.ts';
import type { Historian } from './historian.ts';
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
  lastCommit: number | null = null;
  /** Readings of points that are not in the list. */
  unlisted = 0;

  constructor(
    private readonly device: DeviceConfig,
    remembered: readonly number[],
    private readonly context: IngestContext,
  ) {
    this.guard = new ReplayGuard(remembered);
  }

  /** What the device still holds is in doubt: events may come again. */
  doubt(): void {
    this.guard.doubt();
  }

  /** It has told all that it holds. */
  settle(): void {
    this.guard.settle();
  }

  /** Takes the readings of one fragment; `committed` is called once they are stored, when the device waits for that. */
  take(measured: readonly MeasuredReading[], received: ReceivedFragment, committed: (() => void) | null): void {
    const now = clock.now();
    const { exchange, historian } = this.context;
    const isFresh = this.freshEvents(measured);
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
      stored.push(reading);
      if (one.event && one.kind === 'binary') this.noteStateChange(point, reading);
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
  private freshEvents(measured: readonly MeasuredReading[]): boolean[] {
    const events: { key: number; timed: boolean }[] = [];
    for (const { event, kind, index, value, flags, time } of measured)
      if (event) events.push({ key: eventKey(kind, index, value, flags, time), timed: time !== null });
    return this.guard.admit(events);
  }

  private noteStateChange(point: LivePoint, reading: Reading): void {
    const word = point.config.states?.[reading.raw ? 1 : 0] ?? String(reading.raw);
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
    value: scale(raw, point.config),
    quality,
    time: credible ? (one.time ?? now) : now,
    timeSource: credible ? one.timeSource : 'receipt',
    received: now,
    cause: one.event ? 'event' : 'static',
  };
}
