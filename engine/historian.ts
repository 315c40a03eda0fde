import { batchWasStored, storeBatch, type Database, type StoredReading } from '@halvix/db';
import { clock } from '@halvix/wire';
import { log, reason } from './log.ts';

export interface Entry {
  readings: StoredReading[];
  /** Replay keys that must be kept together with the readings; null when the device asks for no confirm. */
  guard: { device: string; keys: string[] } | null;
  /** Called once the readings are in the database for good. */
  stored: (at: number, batch: number) => void;
}

export interface HistorianNumbers {
  stored: number;
  dropped: number;
  batches: number;
  commitMs: number;
}

const MAX_BATCH = 20_000;
const MAX_WAITING_LOOKS = 200_000;
const FIRST_PAUSE_MS = 200;
const LONGEST_PAUSE_MS = 5000;

/**
 * Puts readings into the database, in order. While one batch is being committed the next one gathers: batches are
 * small when little happens and large when much does. A batch is tried again until it is stored; when the answer to a
 * commit is lost, the database is asked whether it went through. While the database is away, readings that were only
 * looked up are dropped beyond a bound, and counted; events are never dropped, their devices keep sending them.
 */
export class Historian {
  private waiting: Entry[] = [];
  private waitingReadings = 0;
  private working = false;
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
    void this.work();
  }

  /** Stores what waits, then takes nothing more. */
  async stop(): Promise<void> {
    this.stopped = true;
    const deadline = clock.now() + 3000;
    while (this.working && clock.now() < deadline) await pause(20);
  }

  private async work(): Promise<void> {
    if (this.working) return;
    this.working = true;
    // A tick for whatever else arrived together with this entry.
    await Promise.resolve();
    while (this.waiting.length > 0) {
      const entries = this.takeBatch();
      await this.store(entries, `${this.run}.${++this.batch}`);
      if (this.stopped && this.problem !== null) break;
    }
    this.working = false;
  }

  private takeBatch(): Entry[] {
    let readings = 0;
    let count = 0;
    while (count < this.waiting.length && (count === 0 || readings + this.waiting[count].readings.length <= MAX_BATCH))
      readings += this.waiting[count++].readings.length;
    this.waitingReadings -= readings;
    return this.waiting.splice(0, count);
  }

  private async store(entries: Entry[], id: string): Promise<void> {
    const readings = entries.flatMap((entry) => entry.readings);
    const guards = new Map(entries.flatMap(({ guard }) => (guard ? [[guard.device, guard.keys] as const] : [])));
    const batch = { engine: this.engine, id, readings, guards };
    for (let tries = 0; ; tries++) {
      const began = performance.now();
      try {
        if (tries === 0 || !(await batchWasStored(this.database, this.engine, id)))
          await storeBatch(this.database, batch);
        this.problem = null;
        this.numbers.batches++;
        this.numbers.stored += readings.length;
        this.numbers.commitMs = performance.now() - began;
        const at = clock.now();
        for (const entry of entries) entry.stored(at, readings.length);
        return;
      } catch (error) {
        if (isDataError(error)) {
          await this.storeHalves(entries, id, error);
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
  private async storeHalves(entries: Entry[], id: string, error: unknown): Promise<void> {
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
    await this.store(entries.slice(0, middle), `${id}a`);
    await this.store(entries.slice(middle), `${id}b`);
  }
}

/** SQLSTATE classes 22 (data exception) and 23 (integrity constraint violation). */
const isDataError = (error: unknown): boolean =>
  error instanceof Error && 'code' in error && /^2[23]/.test(String(error.code));

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
