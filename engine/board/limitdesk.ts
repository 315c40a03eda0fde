import { sameDocument } from '@halvix/core/config';
import { LEVEL_WORDS, LimitWatch, Quality, type LimitLevel, type Limits, type Reading } from '@halvix/core/point';
import { clock } from '@halvix/wire';
import type { Change, Exchange, LivePoint } from './exchange.ts';
import type { Journal } from '../journal.ts';

/** Of a value that is not there nothing can be said: its level stays as it was. */
const UNKNOWN = Quality.notSet | Quality.offline | Quality.restart | Quality.commLost | Quality.notANumber;

/** Watches the limits of all points, whatever their values come from. */
export class LimitDesk {
  private readonly watches = new Map<number, { limits: Limits; watch: LimitWatch }>();
  /** Points of which a level counts only after its delay. */
  private readonly pending = new Set<number>();
  private timer: NodeJS.Timeout | null = null;
  private timerAt = 0;

  constructor(
    private readonly exchange: Exchange,
    private readonly journal: Journal,
  ) {
    exchange.listen('judge', (changes) => this.look(changes));
  }

  /** Takes over a device's list: what is watched in the same way goes on. */
  adopt(points: readonly LivePoint[]): void {
    for (const id of this.watches.keys()) if (this.exchange.get(id) === undefined) this.forget(id);
    for (const point of points) {
      const { limits } = point.config;
      const known = this.watches.get(point.id);
      if (sameDocument(known?.limits ?? null, limits)) continue;
      if (known !== undefined || limits === null) {
        // Other limits: what the old ones said is over.
        this.forget(point.id);
        this.exchange.setLimit(point, null);
      }
      const reading = limits === null ? null : point.reading;
      if (limits !== null && reading !== null) this.take(point, limits, reading);
    }
  }

  stop(): void {
    if (this.timer !== null) clearTimeout(this.timer);
  }

  private forget(id: number): void {
    this.watches.delete(id);
    this.pending.delete(id);
  }

  private look(changes: readonly Change[]): void {
    for (const change of changes) {
      const { point, reading } = change;
      if (point.config.limits !== null) change.level = this.take(point, point.config.limits, reading);
    }
  }

  /** Returns beyond which it is now. */
  private take(point: LivePoint, limits: Limits, reading: Reading): LimitLevel | null {
    const known = this.watches.get(point.id);
    // What it was beyond of before we began was said then.
    const watch = known?.watch ?? new LimitWatch(limits, point.reading?.limit ?? null);
    if (known === undefined) this.watches.set(point.id, { limits, watch });
    const now = clock.now();
    if (!(reading.quality & UNKNOWN) && watch.take(reading.value, now))
      this.note(point, watch, reading.value, reading.time);
    this.exchange.setLimit(point, watch.level);
    const { deadline } = watch;
    if (deadline === null) this.pending.delete(point.id);
    else {
      this.pending.add(point.id);
      this.arm(deadline, now);
    }
    return watch.level;
  }

  private note({ device, config }: LivePoint, { level }: LimitWatch, value: number, time: number): void {
    const { name, unit } = config;
    const shown = `${Number(value.toPrecision(6))}${unit ? ` ${unit}` : ''}`;
    const words = level === null ? `back within limits, ${shown}` : `beyond ${LEVEL_WORDS[level]}, ${shown}`;
    this.journal.noteChange(device, `${name}: ${words}`, time);
  }

  /** Wakes for the earliest delay that runs. */
  private arm(at: number, now: number): void {
    if (this.timer !== null && this.timerAt <= at) return;
    if (this.timer !== null) clearTimeout(this.timer);
    this.timerAt = at;
    this.timer = setTimeout(() => this.wake(), Math.max(0, at - now));
  }

  private wake(): void {
    this.timer = null;
    const now = clock.now();
    let next = Infinity;
    for (const id of this.pending) {
      const watch = this.watches.get(id)?.watch;
      const point = this.exchange.get(id);
      if (watch === undefined || point === undefined) {
        this.forget(id);
        continue;
      }
      if (watch.wake(now)) {
        this.note(point, watch, point.reading?.value ?? 0, now);
        this.exchange.setLimit(point, watch.level);
        this.exchange.tellLevel(point);
      }
      if (watch.deadline === null) this.pending.delete(id);
      else next = Math.min(next, watch.deadline);
    }
    if (next < Infinity) this.arm(next, now);
  }
}
