import { dropStandby, noteStandby, releaseLease, renewLease, takeLease, type Database, type Engine } from '@halvix/db';
import { log, reason } from '../log.ts';

/*
 * Which of several engines of one database runs.
 *
 * Rules:
 * 1. Whoever holds the lease runs; the others stand by, say so, and try to take it each third of its time.
 * 2. The holder renews it each third of its time. While the database is away it goes on polling: nobody else can take
 *    the lease there either, and nothing is confirmed to a device that is not stored.
 * 3. A holder that finds the lease with another engine ends at once: it may not write, control or answer any more.
 * 4. A holder that is told to end gives the lease back, so that another one takes it at once.
 */
export class Authority {
  private timer: NodeJS.Timeout | null = null;
  private holds = false;
  /** Who holds the lease, as far as this engine knows. */
  holder: Engine | null = null;
  /** When the database last answered, and why it does not; ms since 1970 UTC. */
  answered: number | null = null;
  problem: string | null = null;

  constructor(
    private readonly database: Database,
    readonly engine: Engine,
    private readonly leaseMs: number,
    /** The lease is with another engine. */
    private readonly lost: () => void,
  ) {}

  get isHolder(): boolean {
    return this.holds;
  }

  /** Resolves once this engine holds the lease. */
  async acquire(): Promise<void> {
    for (let said = ''; ;) {
      try {
        this.holder = await takeLease(this.database, this.engine, this.leaseMs);
        this.heard(null);
        if (this.holder.run === this.engine.run) break;
        if (said !== this.holder.run) log('info', 'another engine runs; standing by', { holder: this.holder.name });
        said = this.holder.run;
        await noteStandby(this.database, this.engine);
      } catch (error) {
        this.heard(reason(error));
      }
      await new Promise((resolve) => setTimeout(resolve, this.leaseMs / 3));
    }
    this.holds = true;
    this.timer = setInterval(() => void this.renew(), this.leaseMs / 3);
    await dropStandby(this.database, this.engine.run).catch(() => {});
  }

  private async renew(): Promise<void> {
    try {
      const kept = await renewLease(this.database, this.engine.run, this.leaseMs);
      this.heard(null);
      if (kept || !this.holds) return;
      this.holds = false;
      this.lost();
    } catch (error) {
      this.heard(reason(error));
    }
  }

  private heard(problem: string | null): void {
    if (problem === null) this.answered = Date.now();
    this.problem = problem;
  }

  async release(): Promise<void> {
    if (this.timer !== null) clearInterval(this.timer);
    const held = this.holds;
    this.holds = false;
    await (held ? releaseLease : dropStandby)(this.database, this.engine.run).catch(() => {});
  }
}
