import { RefusedReadings, storeBatch, type Database, type OwedEvent, type StoredReading } from '@halvix/db';
import { clock } from '@halvix/wire';
import { log, reason } from './log.ts';
import { WaitingEntries, type WaitingEntry } from './waiting.ts';

export interface Entry extends WaitingEntry {
  readings: StoredReading[];
  /** What outbounds owe because of them. */
  owed: readonly OwedEvent[];
  /** Called once the readings are in the database for good. */
  stored: (at: number, batch: number) => void;
}

export interface HistorianNumbers {
  stored: number;
  dropped: number;
  /** Put aside: bad data, as the database says. */
  refused: number;
  batches: number;
  commitMs: number;
}

export interface HistorianContext {
  database: Database;
  /** Different for each run of each engine: the mark that was set when this one took the writers' place. */
  run: string;
  /** Another engine writes now. */
  fenced: () => void;
  /** The database calls these bad data. */
  refused: (readings: readonly StoredReading[], reason: string) => void;
}

/** The lanes in which readings are written; each has one batch under way at a time. */
export const WRITERS = ['history 0', 'history 1', 'history 2'] as const;
const MAX_BATCH = 10_000;
/** Beyond so many waiting readings a device that has more than its share of them is dropped the next look. */
const MAX_WAITING_LOOKS = 200_000;
const FIRST_PAUSE_MS = 200;
const LONGEST_PAUSE_MS = 5000;

/**
 * Puts readings into the database. A few batches may be under way, some being copied while another is committed, and
 * the next one gathers meanwhile: batches are small when little happens and large when much does. Devices take turns in
 * a batch, so that one with much to store is in nobody's way. A batch is tried again until it is stored, whatever the reason; the mark of its writer tells whether an earlier try went through. Only what
 * the database itself calls bad data is put aside, counted and noted. While the database is away, readings that were
 * only looked up are dropped beyond a bound, and counted; what may not be dropped says so and waits.
 */
export class Historian {
  private readonly waiting = new WaitingEntries<Entry>(MAX_BATCH, MAX_WAITING_LOOKS);
  /** Batches under way, each with the devices whose replay keys it carries. */
  private readonly underWay = new Map<number, ReadonlySet<string>>();
  private stopped = false;
  private batch = 0;
  /** What each lane stored last. */
  private readonly marks: string[];
  readonly numbers: HistorianNumbers = { stored: 0, dropped: 0, refused: 0, batches: 0, commitMs: 0 };
  /** Why nothing can be written now; null: it can. */
  problem: string | null = null;

  constructor(private readonly context: HistorianContext) {
    this.marks = WRITERS.map(() => context.run);
  }

  get queued(): number {
    return this.waiting.readings;
  }

  add(entry: Entry): void {
    if (!this.waiting.add(entry)) {
      this.numbers.dropped += entry.readings.length;
      return;
    }
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
    for (let lane = 0; lane < WRITERS.length; lane++) if (!this.underWay.has(lane)) void this.work(lane);
  }

  private async work(lane: number): Promise<void> {
    const next = (): Entry[] => this.waiting.take((device) => this.isUnderWay(device));
    for (let entries = next(); entries.length > 0; entries = next()) {
      this.underWay.set(lane, new Set(entries.filter(({ keep }) => keep !== null).map(({ device }) => device)));
      await this.store(entries, lane, `${this.context.run}.${++this.batch}`);
      this.underWay.delete(lane);
      if (this.stopped && this.problem !== null) return;
    }
  }

  private isUnderWay(device: string): boolean {
    for (const devices of this.underWay.values()) if (devices.has(device)) return true;
    return false;
  }

  private async store(entries: Entry[], lane: number, id: string): Promise<void> {
    const readings = entries.flatMap((entry) => entry.readings);
    const keeps = new Map(entries.flatMap(({ device, keep }) => (keep ? [[device, keep] as const] : [])));
    const owed = entries.flatMap((entry) => entry.owed);
    const batch = { writer: WRITERS[lane], previous: this.marks[lane], id, readings, keeps, owed };
    for (let tries = 0; ; tries++) {
      const began = performance.now();
      try {
        const outcome = await storeBatch(this.context.database, batch);
        if (outcome === 'fenced') {
          this.stopped = true;
          this.context.fenced();
          return;
        }
        this.marks[lane] = id;
        this.problem = null;
        this.numbers.batches++;
        this.numbers.stored += readings.length;
        this.numbers.commitMs = performance.now() - began;
        const at = clock.now();
        for (const entry of entries) entry.stored(at, readings.length);
        return;
      } catch (error) {
        if (error instanceof RefusedReadings) {
          await this.storeHalves(entries, lane, id, error);
          return;
        }
        if (this.problem === null) log('error', 'history cannot be written; trying on', { reason: reason(error) });
        this.problem = reason(error);
        if (this.stopped) return;
        await pause(Math.min(LONGEST_PAUSE_MS, FIRST_PAUSE_MS * 2 ** tries));
      }
    }
  }

  /** The database calls some of the readings bad data: find them, and go on without. */
  private async storeHalves(entries: Entry[], lane: number, id: string, error: RefusedReadings): Promise<void> {
    if (entries.length > 1) {
      const middle = entries.length >> 1;
      await this.store(entries.slice(0, middle), lane, `${id}a`);
      await this.store(entries.slice(middle), lane, `${id}b`);
      return;
    }
    const [entry] = entries;
    if (entry.readings.length > 1) {
      // Within one fragment: the good ones are stored, and what the session keeps with the last of them.
      const middle = entry.readings.length >> 1;
      const half = (readings: StoredReading[], last: boolean): Entry => ({
        device: entry.device,
        readings,
        keep: last ? entry.keep : null,
        owed: last ? entry.owed : [],
        mayDrop: false,
        stored: last ? entry.stored : () => {},
      });
      await this.store([half(entry.readings.slice(0, middle), false)], lane, `${id}a`);
      await this.store([half(entry.readings.slice(middle), true)], lane, `${id}b`);
      return;
    }
    this.numbers.refused += entry.readings.length;
    this.context.refused(entry.readings, `${reason(error)} (SQLSTATE ${error.code})`);
    await this.store([{ ...entry, readings: [] }], lane, `${id}c`);
  }
}

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
