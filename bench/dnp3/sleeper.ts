import { clock } from '@halvix/wire';
import { CallingLink, type BenchLink } from '../link.ts';
import type { EventLog } from './eventlog.ts';

/** A device that called and has handed everything over hangs up when it is quiet, or is busy, for so long. */
const AWAKE_QUIET_MS = 1500;
const AWAKE_BUSY_MS = 6000;
/** A call lasts no longer, whatever is left. */
const LONGEST_AWAKE_MS = 30_000;
const CALL_AGAIN_MS = 5000;

/** When a device on batteries calls, and when it hangs up. */
export class Sleeper {
  private wokeAt = 0;
  /** The number of its newest event when it woke. */
  private wokeWith = 0;
  /** When it had handed over what it woke for. */
  private emptyAt: number | null = null;
  private hungUpAt = 0;
  private lastSaid = 0;

  constructor(
    private readonly everyMs: number,
    private readonly link: BenchLink,
    private readonly log: EventLog,
  ) {}

  /** Something was said, on either side. */
  said(): void {
    this.lastSaid = clock.now();
  }

  wake(): void {
    if (!(this.link instanceof CallingLink)) return;
    this.wokeAt = clock.now();
    this.wokeWith = this.log.newest;
    this.emptyAt = null;
    this.lastSaid = this.wokeAt;
    this.link.call();
  }

  tick(): void {
    const now = clock.now();
    if (!this.link.connected) {
      // Nobody took the last call: again, sooner.
      const pause = this.link.problem === null ? this.everyMs : Math.min(CALL_AGAIN_MS, this.everyMs);
      if (now - Math.max(this.wokeAt, this.hungUpAt) >= pause) this.wake();
      return;
    }
    // New samples may come faster than a call is quiet: what it woke for is handed over all the same.
    if (this.handedOver()) this.emptyAt ??= now;
    const done = this.emptyAt !== null && now - this.emptyAt > AWAKE_QUIET_MS;
    const quiet = now - this.lastSaid > AWAKE_QUIET_MS;
    if ((done && (quiet || now - (this.emptyAt ?? now) > AWAKE_BUSY_MS)) || now - this.wokeAt > LONGEST_AWAKE_MS) {
      this.hungUpAt = now;
      this.link.cut();
    }
  }

  /** What it had when it woke is delivered: at every moment something newer may wait. */
  private handedOver(): boolean {
    const { oldestWaiting } = this.log;
    return oldestWaiting === null || oldestWaiting > this.wokeWith;
  }
}
