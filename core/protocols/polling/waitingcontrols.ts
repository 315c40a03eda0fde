import type { Instant } from '../../session/index.ts';
import type { ControlStep } from '../control.ts';

const MOST_WAITING = 32;

/**
 * Controls that wait for their turn, in the order in which they came: each goes out once, in time, or ends here. One waits
 * for the link too, as long as it lives: some devices close theirs after each answer.
 */
export class WaitingControls<Control extends { id: string; expiresAt: Instant }> {
  private waiting: Control[] = [];

  constructor(private readonly report: (id: string, step: ControlStep) => void) {}

  get size(): number {
    return this.waiting.length;
  }

  /** When the first of them is over; infinite: none waits. */
  get nextExpiry(): Instant {
    return Math.min(Infinity, ...this.waiting.map(({ expiresAt }) => expiresAt));
  }

  /** `hindrance`: why it cannot be sent at all. */
  add(control: Control, hindrance: string | null, now: Instant): void {
    const full = this.waiting.length >= MOST_WAITING ? `${MOST_WAITING} controls wait already` : null;
    const problem = hindrance ?? full;
    if (now >= control.expiresAt) this.end(control, { step: 'expired', words: EXPIRED });
    else if (problem !== null) this.end(control, { step: 'failed', words: `${problem}; nothing was sent` });
    else this.waiting.push(control);
  }

  /** Those whose time is over end. */
  expire(now: Instant): void {
    if (this.waiting.length === 0) return;
    this.waiting = this.waiting.filter((control) => {
      if (now < control.expiresAt) return true;
      this.end(control, { step: 'expired', words: EXPIRED });
      return false;
    });
  }

  /** The one whose turn is next. */
  get first(): Control | undefined {
    return this.waiting[0];
  }

  /** It waits no longer. */
  take(control: Control): void {
    this.waiting = this.waiting.filter((one) => one !== control);
  }

  failAll(words: string): void {
    for (const control of this.waiting.splice(0)) this.end(control, { step: 'failed', words });
  }

  private end({ id }: Control, step: ControlStep): void {
    this.report(id, step);
  }
}

const EXPIRED = 'it had expired before it was sent';
