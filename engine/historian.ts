import { batchWasStored, storeBatch, type Database, type StoredReading } from '@halvix/db';
import { clock } from '@halvix/wire';
import { log, reason } from './log.ts';

export interface Entry {
  readings: StoredReading[];
  /** Replay keys that must be kept together with the readings; null when the device asks for no confirm. */
  guard: { device: string; keys: number[] } | null;
  /** Called once the readings are in the database for good. */
  stored: (at: number, batch: number) => void;
}

export interface HistorianNumbers {
  stored: number;
  dropped: number;
  batches: number;
  commitMs: number;
}

/** Batches under way at a time. */
const LANES = 3;
const MAX_BATCH = 10_000;
const MAX_WAITING_LOOKS = 200_000;
const FIRST_PAUSE_MS = 200;
const LONGEST_PAUSE_MS = 5000;

/**
 * Puts readings into the database. A few batches may be under way, some being copied while another is committed, and
 * the next one gathers meanwhile: batches are small when little happens and large when much does. A batch is tried again until it is stored; when the answer to a
 * commit is lost, the database is asked whether it went through. While the database is away, readings that were only
 * looked up are dropped beyond a bound, and counted; events are never dropped, their devices keep sending them.
 */
export class Historian {
  private waiting: Entry[] = [];
  private waitingReadings = 0;
  /** Batches under way, each with the devices whose replay keys it carries. */
  private readonly underWay = new Map<number, ReadonlySet<string>>();
  private stopped = false;
  private readonly run: string;
  private batch = 0;
  readonly numbers: HistorianNumbers = { stored: 0, dropped: 0, batches: 0, commitMs: 0 };
  problem: string | null = null;

  constructor(
    private readonly database: Database,
    private readonly engine: string,
  ) {
    this.run = `${process.pid}.${clock.now()}`;
  }

  get queued(): number {
    return this.waitingReadings;
  }

  add(entry: Entry): void {
    if (entry.guard === null && this.waitingReadings > MAX_WAITING_LOOKS) {
      this.numbers.dropped += entry.readings.length;
      return;
    }
    this.waiting.push(entry);
    this.waitingReadings += entry.readings.length;
    // A tick for whatever else arrives together with this entry.
    queueMicrotask(() => this.startLanes());
  }

  /** Stores what waits, then takes nothing more. */
  async stop(): Promise<void> {
    this.stopped = true;
    const deadline = clock.now() + 3000;
    while (this.underWay.size > 0 && clock.now() < deadline) await pause(20);
  }

  private startLanes(): void {
    for (let lane = 0; lane < LANES; lane++) if (!this.underWay.has(lane)) void this.work(lane);
  }

  private async work(lane: number): Promise<void> {
    for (let entries = this.takeBatch(); entries.length > 0; entries = this.takeBatch()) {
      this.underWay.set(lane, new Set(entries.flatMap(({ guard }) => guard?.device ?? [])));
      await this.store(entries, lane, `${this.run}.${++this.batch}`);
      this.underWay.delete(lane);
      if (this.stopped && this.problem !== null) return;
    }
  }

  /**
   * The oldest entries, up to the size of a batch. A device's fragment waits while one before it is under way: its
   * confirm speaks for both.
   */
  private takeBatch(): Entry[] {
    const isUnderWay = (device: string): boolean => [...this.underWay.values()].some((devices) => devices.has(device));
    let readings = 0;
    let count = 0;
    for (const { readings: own, guard } of this.waiting) {
      if (count > 0 && readings + own.length > MAX_BATCH) break;
      if (guard !== null && isUnderWay(guard.device)) break;
      readings += own.length;
      count++;
    }
    this.waitingReadings -= readings;
    return this.waiting.splice(0, count);
  }

  private async store(entries: Entry[], lane: number, id: string): Promise<void> {
    const readings = entries.flatMap((entry) => entry.readings);
    const guards = new Map(entries.flatMap(({ guard }) => (guard ? [[guard.device, guard.keys] as const] : [])));
    const writer = `${this.engine} ${lane}`;
    const batch = { writer, id, readings, guards };
    for (let tries = 0; ; tries++) {
      const began = performance.now();
      try {
        if (tries === 0 || !(await batchWasStored(this.database, writer, id))) await storeBatch(this.database, batch);
        this.problem = null;
        this.numbers.batches++;
        this.numbers.stored += readings.length;
        this.numbers.commitMs = performance.now() - began;
        const at = clock.now();
        for (const entry of entries) entry.stored(at, readings.length);
        return;
      } catch (error) {
        if (isDataError(error)) {
          await this.storeHalves(entries, lane, id, error);
          return;
        }
        this.problem = reason(error);
        if (tries === 0) log('error', 'history cannot be written; trying on', { reason: this.problem });
        if (this.stopped) return;
        await pause(Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** tries));
      }
    }
  }

  /** The database took offence at a value: find the entry it is in, and go on without it. */
  private async storeHalves(entries: Entry[], lane: number, id: string, error: unknown): Promise<void> {
    if (entries.length === 1) {
      this.numbers.dropped += entries[0].readings.length;
      log('error', 'readings that the database refuses were dropped', {
        readings: entries[0].readings.length,
        reason: reason(error),
      });
      entries[0].stored(clock.now(), 0);
      return;
    }
    const middle = entries.length >> 1;
    await this.store(entries.slice(0, middle), lane, `${id}a`);
    await this.store(entries.slice(middle), lane, `${id}b`);
  }
}

/**
 * SQLSTATE classes 22 (data exception) and 23 (integrity constraint violation), and 25P02: the statement after a COPY
 * that failed.
 */
const isDataError = (error: unknown): boolean =>
  error instanceof Error && 'code' in error && /^(2[23]|25P02)/.test(String(error.code));

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
