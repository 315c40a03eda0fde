import {
  CAUSES,
  exceedsDeadband,
  LIMIT_LEVELS,
  TIME_SOURCES,
  type Cause,
  type LimitLevel,
  type Reading,
  type TimeSource,
} from '@halvix/core/point';
import type { StoredReading } from '@halvix/db';

const FIRST_ROOM = 1024;
/** Codes of `limit`: it was never judged, it is inside of all, then the levels. */
const NEVER_JUDGED = 0;
const INSIDE = 1;
const CODE_OF_SOURCE = new Map<TimeSource, number>(TIME_SOURCES.map((source, code) => [source, code]));
const CODE_OF_CAUSE = new Map<Cause, number>(CAUSES.map((cause, code) => [cause, code]));

/**
 * The latest reading of every point, and the last one that had moved: a column for each of their fields, a row for each
 * point. Readings are objects for a moment only. What stays for a hundred thousand points, and is replaced ten thousand
 * times a second, would otherwise be most of what the collector of garbage goes through.
 */
export class LatestReadings {
  private raw = new Float64Array(FIRST_ROOM);
  private value = new Float64Array(FIRST_ROOM);
  private time = new Float64Array(FIRST_ROOM);
  private received = new Float64Array(FIRST_ROOM);
  private quality = new Int32Array(FIRST_ROOM);
  private timeSource = new Uint8Array(FIRST_ROOM);
  private cause = new Uint8Array(FIRST_ROOM);
  private limit = new Uint8Array(FIRST_ROOM);
  /** 1: there is a reading. */
  private has = new Uint8Array(FIRST_ROOM);
  private movedValue = new Float64Array(FIRST_ROOM);
  private movedQuality = new Int32Array(FIRST_ROOM);
  /** 1: one has moved. */
  private hasMovedOne = new Uint8Array(FIRST_ROOM);
  /** Of texts, which are few. */
  private readonly text = new Map<number, string>();
  private readonly movedText = new Map<number, string>();
  private readonly free: number[] = [];
  private rows = 0;

  /** A row of its own for a point. */
  take(): number {
    const row = this.free.pop() ?? this.rows++;
    if (row >= this.raw.length) this.grow();
    return row;
  }

  /** The row is for another point. */
  release(row: number): void {
    this.has[row] = 0;
    this.hasMovedOne[row] = 0;
    this.text.delete(row);
    this.movedText.delete(row);
    this.free.push(row);
  }

  private grow(): void {
    const larger = <Column extends Float64Array | Int32Array | Uint8Array>(column: Column): Column => {
      const next = new (column.constructor as new (length: number) => Column)(column.length * 2);
      next.set(column);
      return next;
    };
    this.raw = larger(this.raw);
    this.value = larger(this.value);
    this.time = larger(this.time);
    this.received = larger(this.received);
    this.quality = larger(this.quality);
    this.timeSource = larger(this.timeSource);
    this.cause = larger(this.cause);
    this.limit = larger(this.limit);
    this.has = larger(this.has);
    this.movedValue = larger(this.movedValue);
    this.movedQuality = larger(this.movedQuality);
    this.hasMovedOne = larger(this.hasMovedOne);
  }

  isThere(row: number): boolean {
    return this.has[row] === 1;
  }

  /** As an object of its own; null: there is none. */
  of(row: number): Reading | null {
    if (this.has[row] === 0) return null;
    const reading: Reading = {
      raw: this.raw[row],
      value: this.value[row],
      quality: this.quality[row],
      time: this.time[row],
      timeSource: TIME_SOURCES[this.timeSource[row]],
      received: this.received[row],
      cause: CAUSES[this.cause[row]],
    };
    this.addTo(reading, row);
    return reading;
  }

  /** The same with the number of its point; there must be one. */
  stored(row: number, pointId: number): StoredReading {
    // Written out like the other: of one shape with what devices' messages make.
    const reading: StoredReading = {
      pointId,
      raw: this.raw[row],
      value: this.value[row],
      quality: this.quality[row],
      time: this.time[row],
      timeSource: TIME_SOURCES[this.timeSource[row]],
      received: this.received[row],
      cause: CAUSES[this.cause[row]],
    };
    this.addTo(reading, row);
    return reading;
  }

  /** What few readings have. */
  private addTo(reading: Reading, row: number): void {
    const text = this.text.size === 0 ? undefined : this.text.get(row);
    if (text !== undefined) reading.text = text;
    const code = this.limit[row];
    if (code !== NEVER_JUDGED) reading.limit = code === INSIDE ? null : LIMIT_LEVELS[code - INSIDE - 1];
  }

  put(row: number, reading: Reading): void {
    this.has[row] = 1;
    this.raw[row] = reading.raw;
    this.value[row] = reading.value;
    this.quality[row] = reading.quality;
    this.time[row] = reading.time;
    this.timeSource[row] = CODE_OF_SOURCE.get(reading.timeSource) ?? 0;
    this.received[row] = reading.received;
    this.cause[row] = CODE_OF_CAUSE.get(reading.cause) ?? 0;
    this.limit[row] = codeOf(reading.limit);
    if (reading.text !== undefined) this.text.set(row, reading.text);
    else if (this.text.size > 0) this.text.delete(row);
  }

  /** The same value and quality as the reading's. */
  says(row: number, { raw, text, quality }: Reading): boolean {
    return this.has[row] === 1 && this.raw[row] === raw && this.quality[row] === quality && this.text.get(row) === text;
  }

  /** It was received again. */
  setReceived(row: number, received: number): void {
    this.received[row] = received;
  }

  /** Beyond which of its limits it is; null: inside of all, or never judged. */
  limitOf(row: number): LimitLevel | null {
    const code = this.limit[row];
    return this.has[row] === 0 || code <= INSIDE ? null : LIMIT_LEVELS[code - INSIDE - 1];
  }

  setLimit(row: number, limit: Reading['limit']): void {
    this.limit[row] = codeOf(limit);
  }

  /** Whether the reading differs by the deadband, in the unit, from the last one that had moved, which it then is. */
  move(row: number, { value, text, quality }: Reading, deadband: number): boolean {
    const stays =
      this.hasMovedOne[row] === 1 &&
      this.movedQuality[row] === quality &&
      this.movedText.get(row) === text &&
      !exceedsDeadband(value, this.movedValue[row], deadband);
    if (stays) return false;
    this.hasMovedOne[row] = 1;
    this.movedValue[row] = value;
    this.movedQuality[row] = quality;
    if (text !== undefined) this.movedText.set(row, text);
    else if (this.movedText.size > 0) this.movedText.delete(row);
    return true;
  }
}

const codeOf = (limit: Reading['limit']): number =>
  limit === undefined ? NEVER_JUDGED : limit === null ? INSIDE : INSIDE + 1 + LIMIT_LEVELS.indexOf(limit);
