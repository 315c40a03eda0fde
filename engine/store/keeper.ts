import {
  bringHome,
  closeHours,
  compact,
  dropOldJournal,
  endOldHistory,
  endOldSecurity,
  makePartitions,
  retentions,
  tidy,
  type Database,
} from '@halvix/db';
import { clock } from '@halvix/wire';
import { log, reason } from '../log.ts';

/** So many that some rounds may find no moment for it. */
const DAYS_AHEAD = 8;
const JOURNAL_KEPT_MS = 30 * 86_400_000;
const EVERY_MS = 5 * 60_000;
/** After a jump of the clock, days are made at once. */
const CLOCK_LOOK_MS = 30_000;
const JUMP_MS = 60_000;
/** Hours of statistics made in one go, before the rest gets its turn. */
const HOURS_AT_ONCE = 24;

/** Keeps history in order: partitions ahead, statistics of what is over, an end for what is old. */
export class HistoryKeeper {
  private readonly timers: NodeJS.Timeout[] = [];
  private working = false;
  private stopped = false;
  private seen = { wall: clock.now(), steady: performance.now() };

  constructor(private readonly database: Database) {}

  start(): void {
    this.timers.push(
      setInterval(() => void this.work(), EVERY_MS),
      setInterval(() => this.lookAtClock(), CLOCK_LOOK_MS),
    );
    void this.work();
  }

  stop(): void {
    this.stopped = true;
    this.timers.forEach(clearInterval);
  }

  private lookAtClock(): void {
    const now = { wall: clock.now(), steady: performance.now() };
    const jumped = Math.abs(now.wall - this.seen.wall - (now.steady - this.seen.steady)) > JUMP_MS;
    this.seen = now;
    if (jumped) void this.work();
  }

  /** The partitions that are needed before anything is stored. */
  async prepare(): Promise<void> {
    for (const problem of await makePartitions(this.database, clock.now(), DAYS_AHEAD))
      log('warning', 'a day of history has no partition of its own yet', { reason: problem });
  }

  async work(): Promise<void> {
    if (this.working) return;
    this.working = true;
    const { database } = this;
    const now = clock.now();
    const steps: [string, () => Promise<unknown>][] = [
      ['make partitions', () => makePartitions(database, now, DAYS_AHEAD)],
      ['move readings home', async () => bringHome(database, now, DAYS_AHEAD, await this.longest())],
      ['close hours', () => closeHours(database, now)],
      ['make statistics', () => this.compactAll()],
      ['end old history', () => endOldHistory(database, now)],
      ['tidy', () => tidy(database, now)],
      ['end old lines of the security log', () => endOldSecurity(database)],
      ['tidy the journal', () => dropOldJournal(database, now - JOURNAL_KEPT_MS)],
    ];
    for (const [what, step] of steps) {
      if (this.stopped) break;
      try {
        await step();
      } catch (error) {
        log('warning', `history: cannot ${what} now`, { reason: reason(error) });
      }
    }
    this.working = false;
  }

  private async longest(): Promise<number> {
    return Math.max(...(await retentions(this.database)).map(({ readingsDays }) => readingsDays));
  }

  private async compactAll(): Promise<void> {
    while (!this.stopped && (await compact(this.database, HOURS_AT_ONCE)) === HOURS_AT_ONCE);
  }
}
