import type { Instant } from '../../../../session/index.ts';
import type { MasterSettings } from '../../settings.ts';
import { Priority } from '../../../../line/index.ts';
import type { Task, WaitingTask } from '../task.ts';

const SYNC_PAUSE_MS = 60_000;
/** A device that does not answer when its clock is to be set is asked so rarely. */
const UNANSWERED_PAUSE_MS = 3_600_000;

/** When a device's clock is set and read: when it asks for the time, and at the period of the settings. */
export class ClockKeeping {
  /** The device asks for the time. */
  asked = false;
  private setNotBefore: Instant = 0;
  private readAt: Instant | null;

  constructor(
    private readonly settings: Pick<MasterSettings, 'clockCheckMs' | 'timeSync'>,
    now: Instant,
  ) {
    this.readAt = settings.clockCheckMs > 0 ? now : null;
  }

  /** A connection begins. */
  begin(now: Instant): void {
    this.setNotBefore = now;
  }

  indicated(needsTime: boolean): void {
    this.asked = needsTime && (this.asked || this.settings.timeSync !== 'never');
  }

  restarted(): void {
    this.setNotBefore = 0;
  }

  /** How well it went shows in the clock. */
  wasSet(now: Instant): void {
    if (this.readAt !== null) this.readAt = now;
  }

  cannotBeRead(): void {
    this.readAt = null;
  }

  /** It does not answer; `often`: it never does. */
  declined(now: Instant, often: boolean): void {
    this.setNotBefore = now + (often ? UNANSWERED_PAUSE_MS : SYNC_PAUSE_MS);
  }

  get task(): Task {
    return this.settings.timeSync === 'whenAskedLan' ? { type: 'recordTime' } : { type: 'measureDelay' };
  }

  setting(now: Instant): WaitingTask | null {
    if (!this.asked || now < this.setNotBefore) return null;
    return {
      task: this.task,
      priority: Priority.background,
      since: this.setNotBefore,
      taken: (at) => (this.setNotBefore = at + SYNC_PAUSE_MS),
    };
  }

  reading(now: Instant): WaitingTask | null {
    if (this.readAt === null || now < this.readAt) return null;
    return {
      task: { type: 'readClock' },
      priority: Priority.background,
      since: this.readAt,
      taken: (at) => (this.readAt = at + this.settings.clockCheckMs),
    };
  }

  /** When something of it is due. */
  get deadline(): Instant {
    return Math.min(this.asked ? this.setNotBefore : Infinity, this.readAt ?? Infinity);
  }
}
