import {
  RefusedReadings,
  storeBatch,
  storeSettled,
  type Database,
  type OwedEvent,
  type Settled,
  type StoredReading,
} from '@halvix/db';
import { clock } from '@halvix/wire';
import { log, reason } from '../log.ts';
import { databaseWords } from './databasewords.ts';
import { WaitingEntries, type WaitingEntry } from './waiting.ts';
import { encodePlace, STORED_UP_TO, type WaitingFile, type WaitingLine } from './waitingfile.ts';

export interface Entry extends WaitingEntry {
  readings: StoredReading[];
  /** What outbounds owe because of them. */
  owed: readonly OwedEvent[];
  /** Its device keeps it until it is stored: it need not survive anywhere else. */
  confirms: boolean;
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
  /** Events that outbounds owe are committed. */
  owedStored?: (owed: readonly OwedEvent[]) => void;
  /** On which link a device is. */
  linkOf?: (device: string) => string;
  /** Takes what memory is not to hold; null: there is none. */
  file: WaitingFile | null;
}

interface UnderWay {
  entries: readonly Entry[];
  /** Those whose sessions' memory it carries. */
  devices: ReadonlySet<string>;
  id: string;
  since: number;
}

/** The lanes in which readings are written; each has one batch under way at a time. */
export const WRITERS = ['history 0', 'history 1', 'history 2'] as const;
const MAX_BATCH = 20_000;
/** Beyond so many waiting readings a device that has more than its share of them is dropped the next look. */
const MAX_WAITING_LOOKS = 200_000;
/** Beyond so much in memory, in readings, what no device keeps for us goes to the file. */
const MOST_IN_MEMORY = 50_000;
/** Where there is no file, or it takes nothing more: beyond so much it is dropped, and counted. */
const MOST_WITHOUT_FILE = 1_000_000;
/** Lines of the file that are stored at once. */
const LINES_AT_A_TIME = 2000;
const STOPS_WITHIN_MS = 3000;
/** A batch that is under way for longer is worth a word. */
const STALLED_MS = 3000;
const FIRST_PAUSE_MS = 200;
const LONGEST_PAUSE_MS = 5000;

/**
 * Puts readings into the database. A few batches may be under way, some being copied while another is committed, and
 * the next one gathers meanwhile: batches are small when little happens and large when much does. Devices take turns in
 * a batch, so that one with much to store is in nobody's way. A batch is tried again until it is stored, whatever the reason; the mark of its writer tells whether an earlier try went through. Only what
 * the database itself calls bad data is put aside, counted and noted. While the database is away, readings that were
 * only looked up are dropped beyond a bound, and counted; what may not be dropped says so and waits: in memory up to a
 * bound, beyond that and at an orderly end in a file, unless its device keeps it for us anyway.
 */
export class Historian {
  private readonly waiting = new WaitingEntries<Entry>(MAX_BATCH, MAX_WAITING_LOOKS);
  /** Batches under way, one place for each lane. */
  private readonly underWay = WRITERS.map((): UnderWay | null => null);
  private stopped = false;
  private batch = 0;
  /** What each lane stored last. */
  private readonly marks: string[];
  readonly numbers: HistorianNumbers = { stored: 0, dropped: 0, refused: 0, batches: 0, commitMs: 0 };
  /** Why the last try failed; null: it did not. */
  private failed: string | null = null;

  constructor(private readonly context: HistorianContext) {
    this.marks = WRITERS.map(() => context.run);
  }

  /** Why nothing is written now; null: it is. A lock that somebody holds is no error for a long time. */
  get problem(): string | null {
    if (this.failed !== null) return this.failed;
    const since = Math.min(...this.underWay.map((one) => one?.since ?? Infinity));
    const forMs = clock.now() - since;
    return forMs > STALLED_MS ? `it has taken nothing for ${Math.floor(forMs / 1000)} s` : null;
  }

  /** Readings that are not stored yet. */
  get queued(): number {
    let underWay = 0;
    for (const one of this.underWay) for (const { readings } of one?.entries ?? []) underWay += readings.length;
    return this.waiting.readings + underWay;
  }

  add(entry: Entry): void {
    if (this.goesToFile(entry) && this.context.file?.add({ ...entry, settled: [] })) {
      queueMicrotask(() => this.startLanes());
      return;
    }
    if (this.waiting.weight > MOST_WITHOUT_FILE && !entry.confirms) {
      this.numbers.dropped += entry.readings.length;
      return;
    }
    if (!this.waiting.add(entry)) {
      this.numbers.dropped += entry.readings.length;
      return;
    }
    // A tick for whatever else arrives together with this entry.
    queueMicrotask(() => this.startLanes());
  }

  /** Nothing passes what is in the file already. */
  private goesToFile({ confirms, mayDrop }: Entry): boolean {
    const { file } = this.context;
    if (file === null || confirms || mayDrop) return false;
    return !file.isEmpty || this.waiting.weight > MOST_IN_MEMORY;
  }

  /** Octets that wait in the file. */
  get inFile(): number {
    return this.context.file?.waiting ?? 0;
  }

  /** Stores what waits, then takes nothing more; what cannot be stored now goes to the file. */
  async stop(settled: readonly Settled[] = []): Promise<void> {
    this.stopped = true;
    const deadline = clock.now() + STOPS_WITHIN_MS;
    const isDone = (): boolean => !this.isWriting && this.waiting.weight === 0;
    while (!isDone() && clock.now() < deadline) await pause(20);
    this.putAside(settled);
    this.context.file?.close();
  }

  /** What is not stored, for the next run: batches of which nobody knows whether they went through say which they are. */
  private putAside(settled: readonly Settled[]): void {
    const { file } = this.context;
    if (file === null) return;
    const isFirst = file.isEmpty;
    const put = (entry: Entry, batch: WaitingLine['batch']): void => {
      if (entry.confirms || entry.mayDrop || entry.device === STORED_UP_TO) return;
      // What a session kept later is in the file already.
      const line = { ...entry, keep: isFirst ? entry.keep : null, settled: [], ...(batch ? { batch } : {}) };
      if (!file.add(line)) this.numbers.dropped += entry.readings.length;
    };
    this.underWay.forEach((one, lane) => {
      if (one === null || (lane === FILE_LANE && this.isReadingFile)) return;
      for (const entry of one.entries) put(entry, { writer: WRITERS[lane], id: one.id });
    });
    for (const entry of this.waiting.takeAll()) put(entry, undefined);
    if (settled.length > 0) file.add({ device: '', readings: [], keep: null, owed: [], settled });
  }

  /**
   * Stores what an earlier run could not. `isLast`: nobody ran since, so that what sessions kept is the newest that there
   * is; `marks`: the last batch that each writer is known to have stored. Returns what sessions had kept.
   */
  async takeUp(isLast: boolean, marks: ReadonlyMap<string, string>): Promise<Map<string, Uint8Array>> {
    const keeps = new Map<string, Uint8Array>();
    const { file } = this.context;
    let count = 0;
    for (let next = file?.next(LINES_AT_A_TIME); next; next = file?.next(LINES_AT_A_TIME)) {
      const lines = next.lines.filter(({ batch }) => batch === undefined || marks.get(batch.writer) !== batch.id);
      await this.storeLines(isLast ? lines : lines.map((line) => ({ ...line, keep: null })), next.place);
      // It ends while the database is away: all of it stays for the next run.
      if (this.stopped) break;
      for (const { device, keep, readings } of lines) {
        count += readings.length;
        if (keep !== null && isLast) keeps.set(device, keep);
      }
    }
    if (count > 0) log('info', 'readings that an earlier run could not store are stored', { readings: count });
    return keeps;
  }

  private async storeLines(lines: readonly WaitingLine[], place: { file: string; at: number }): Promise<void> {
    const nothing = { mayDrop: false, confirms: false, stored: () => {} };
    const entries = lines.map((line): Entry => ({ ...line, readings: [...line.readings], ...nothing }));
    const mark: Entry = { device: STORED_UP_TO, readings: [], keep: encodePlace(place), owed: [], ...nothing };
    this.isReadingFile = true;
    const id = `${this.context.run}.${++this.batch}`;
    this.underWay[FILE_LANE] = { entries, devices: new Set(), id, since: clock.now() };
    await this.store([...entries, mark], FILE_LANE, id);
    this.underWay[FILE_LANE] = null;
    this.isReadingFile = false;
    if (this.stopped && this.failed !== null) return;
    this.context.file?.stored(place);
    const settled = lines.flatMap((line) => line.settled);
    if (settled.length > 0) await storeSettled(this.context.database, settled, this.context.run).catch(() => {});
  }
  private isReadingFile = false;

  private startLanes(): void {
    for (let lane = 0; lane < WRITERS.length; lane++) if (this.underWay[lane] === null) void this.work(lane);
    this.startFile();
  }

  /** Once memory is empty the file's turn comes, piece by piece. */
  private startFile(): void {
    if (this.stopped || this.isReadingFile || this.isWriting || this.inFile === 0) return;
    void this.workFile();
  }

  private async workFile(): Promise<void> {
    const next = this.context.file?.next(LINES_AT_A_TIME);
    if (!next) return;
    await this.storeLines(next.lines, next.place);
    queueMicrotask(() => this.startLanes());
  }

  private async work(lane: number): Promise<void> {
    const next = (): Entry[] => this.waiting.take((device) => this.isUnderWay(device));
    for (let entries = next(); entries.length > 0; entries = next()) {
      const devices = new Set(entries.filter(({ keep }) => keep !== null).map(({ device }) => device));
      const id = `${this.context.run}.${++this.batch}`;
      this.underWay[lane] = { entries, devices, id, since: clock.now() };
      await this.store(entries, lane, id);
      if (this.stopped && this.failed !== null) return;
      this.underWay[lane] = null;
    }
    this.startFile();
  }

  private isUnderWay(device: string): boolean {
    for (const one of this.underWay) if (one?.devices.has(device)) return true;
    return false;
  }

  private get isWriting(): boolean {
    return this.underWay.some((one) => one !== null);
  }

  private async store(entries: Entry[], lane: number, id: string): Promise<void> {
    const readings = entries.flatMap((entry) => entry.readings);
    const keeps = new Map(entries.flatMap(({ device, keep }) => (keep ? [[device, keep] as const] : [])));
    const owed = entries.flatMap((entry) => entry.owed);
    const { linkOf } = this.context;
    const batch = { writer: WRITERS[lane], previous: this.marks[lane], id, readings, keeps, owed, linkOf };
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
        this.failed = null;
        this.numbers.batches++;
        this.numbers.stored += readings.length;
        this.numbers.commitMs = performance.now() - began;
        const at = clock.now();
        for (const entry of entries) entry.stored(at, readings.length);
        if (owed.length > 0) this.context.owedStored?.(owed);
        return;
      } catch (error) {
        if (error instanceof RefusedReadings) {
          await this.storeHalves(entries, lane, id, error);
          return;
        }
        if (this.failed === null) log('error', 'history cannot be written; trying on', { reason: reason(error) });
        this.failed = databaseWords(error);
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
        ...{ mayDrop: false, confirms: entry.confirms },
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

/** In which the file is stored: by the first writer, while no other works. */
const FILE_LANE = 0;

const pause = (ms: number): Promise<void> => new Promise((resolve) => setTimeout(resolve, ms));
