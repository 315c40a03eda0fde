import {
  dropSettled,
  lastOwed,
  lastOwedRow,
  newestOwed,
  owedBehind,
  settledOf,
  storeSettled,
  type Database,
  type OwedEvent,
  type Settled,
} from '@halvix/db';
import { clock } from '@halvix/wire';
import { log, reason } from '../log.ts';

/*
 * The engine's side of the ledger of what outbounds owe (`db/queries/owed.ts`).
 *
 * What an outbound owes is committed with the readings that it comes from (`Contributions`); how far it is settled is
 * written here, as soon as the other side says so, one write at a time. That write does not wait for the disk: it
 * survives the end of the engine and of the database's processes; what the last moments before a loss of power settled
 * is told again, which the other side has to expect of anything that was not confirmed to the end.
 *
 * An outbound that begins is given what it owes in pieces, the oldest first, while it is asked already; the session holds
 * its own new events back meanwhile.
 */

/** Between two looks for rows that are settled. */
const TIDY_MS = 2000;
/** Rows stay so long after they were settled: by them is known what was told last, at a start. */
const KEPT_MS = 10_000;
const ROWS_AT_A_TIME = 500;
/** Rows by which is known what was told last. */
const NEWEST_ROWS = 2000;
const PAUSE_AFTER_FAILURE_MS = 500;
const STOPS_WITHIN_MS = 2000;

interface Queue extends Settled {
  beyondSet: Set<number>;
  isDirty: boolean;
  isWriting: boolean;
  /** Positions of the last while, oldest first. */
  past: { at: number; position: number }[];
  /** Up to where rows are dropped already. */
  gone: number;
}

/** What the ledger has of an outbound before its session begins. */
export interface OpenedAccount {
  lastNumber: number;
  /** What was told last, oldest first, settled or not. */
  told: OwedEvent[];
  owes: boolean;
  /** Gives what is owed, in pieces. */
  fill: (give: (events: OwedEvent[], last: boolean) => void) => Promise<void>;
}

export class Ledger {
  private readonly queues = new Map<string, Queue>();
  private writing: Promise<void> | null = null;
  private readonly timer: NodeJS.Timeout;
  private failing = false;
  private stopped = false;

  constructor(
    private readonly database: Database,
    private readonly run: string,
  ) {
    this.timer = setInterval(() => void this.tidy(), TIDY_MS);
  }

  /** What an outbound still owes from before. */
  async open(outbound: number): Promise<OpenedAccount> {
    const { database } = this;
    const settled = new Map(
      [...(await settledOf(database, outbound))].map(([queue, one]) => [queue, this.queueOf(outbound, queue, one)]),
    );
    const upTo = await lastOwedRow(database, outbound);
    const lastNumber = await lastOwed(database, outbound);
    const told = await newestOwed(database, outbound, NEWEST_ROWS);
    const isOwed = ({ queue, number }: OwedEvent): boolean => {
      const known = settled.get(queue);
      return known === undefined || (number > known.position && !known.beyondSet.has(number));
    };
    const fill: OpenedAccount['fill'] = async (give) => {
      for (let behind = 0; !this.stopped;) {
        const rows = await this.untilItWorks(() => owedBehind(database, outbound, behind, upTo, ROWS_AT_A_TIME));
        behind = rows.at(-1)?.id ?? upTo;
        const isLast = rows.length < ROWS_AT_A_TIME;
        give(
          rows.flatMap(({ events }) => events.filter(isOwed)),
          isLast,
        );
        if (isLast) return;
        await new Promise((resolve) => setImmediate(resolve));
      }
    };
    return { lastNumber, told, owes: upTo > 0, fill };
  }

  private async untilItWorks<Result>(attempt: () => Promise<Result>): Promise<Result> {
    for (;;) {
      try {
        return await attempt();
      } catch (error) {
        log('error', 'what outbounds owe cannot be read; trying on', { reason: reason(error) });
        await new Promise((resolve) => setTimeout(resolve, PAUSE_AFTER_FAILURE_MS));
      }
    }
  }

  private queueOf(outbound: number, queue: string, known?: Settled): Queue {
    const key = `${outbound} ${queue}`;
    let there = this.queues.get(key);
    if (there === undefined) {
      const { position = 0, beyond = [] } = known ?? {};
      there = {
        outbound,
        queue,
        position,
        beyond,
        beyondSet: new Set(beyond),
        isDirty: false,
        isWriting: false,
        past: [],
        gone: 0,
      };
      this.queues.set(key, there);
    }
    return there;
  }

  /** The other side has everything up to the position, and what is beyond it; or nobody wants it any more. */
  settle({ outbound, queue, position, beyond }: Settled): void {
    const there = this.queueOf(outbound, queue);
    there.position = Math.max(there.position, position);
    for (const number of beyond) there.beyondSet.add(number);
    if (there.beyondSet.size > 0)
      for (const number of there.beyondSet) if (number <= there.position) there.beyondSet.delete(number);
    there.isDirty = true;
    void this.write();
  }

  /** Everything that is settled is written. */
  async flush(): Promise<void> {
    while ([...this.queues.values()].some(({ isDirty }) => isDirty) && !this.failing) await this.write();
    await this.writing;
  }

  private write(): Promise<void> {
    this.writing ??= this.writeDirty().finally(() => {
      this.writing = null;
      if (this.stopped || ![...this.queues.values()].some(({ isDirty }) => isDirty)) return;
      if (this.failing) setTimeout(() => void this.write(), PAUSE_AFTER_FAILURE_MS);
      else void this.write();
    });
    return this.writing;
  }

  private async writeDirty(): Promise<void> {
    // A tick for whatever else is settled in the same moment.
    await Promise.resolve();
    const dirty = [...this.queues.values()].filter(({ isDirty }) => isDirty);
    for (const one of dirty) Object.assign(one, { isDirty: false, isWriting: true });
    try {
      await storeSettled(
        this.database,
        dirty.map(({ beyondSet, ...one }) => ({ ...one, beyond: [...beyondSet] })),
        this.run,
      );
      this.failing = false;
    } catch (error) {
      for (const one of dirty) one.isDirty = true;
      if (!this.failing) log('error', 'what is settled cannot be written; trying on', { reason: reason(error) });
      this.failing = true;
    }
    for (const one of dirty) one.isWriting = false;
  }

  /** Rows that were settled a while ago go. */
  private async tidy(): Promise<void> {
    const now = clock.now();
    const due: Settled[] = [];
    for (const queue of this.queues.values()) {
      const { past, position } = queue;
      if ((past.at(-1)?.position ?? queue.gone) !== position) past.push({ at: now, position });
      // A clock that was set back would keep them for ever.
      const old = past.findLastIndex(({ at }) => at <= now - KEPT_MS || at > now);
      if (old < 0) continue;
      const [{ position: settledBefore }] = past.slice(old);
      due.push({ ...queue, position: settledBefore });
      queue.past = past.slice(old + 1);
      queue.gone = settledBefore;
    }
    if (due.length === 0) return;
    try {
      await dropSettled(this.database, due, this.run);
    } catch {
      // They go another time.
      for (const { outbound, queue, position } of due) this.queueOf(outbound, queue).past.unshift({ at: 0, position });
    }
  }

  /** Writes what it can; returns what it could not. */
  async stop(): Promise<Settled[]> {
    clearInterval(this.timer);
    this.stopped = true;
    await Promise.race([this.flush(), new Promise((resolve) => setTimeout(resolve, STOPS_WITHIN_MS))]);
    return [...this.queues.values()]
      .filter(({ isDirty, isWriting }) => isDirty || isWriting)
      .map(({ outbound, queue, position, beyondSet }) => ({ outbound, queue, position, beyond: [...beyondSet] }));
  }
}
