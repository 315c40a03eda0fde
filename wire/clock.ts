import type { Instant } from '@halvix/core/session';

const STEP_MS = 1000;
const SLEW_PER_CALL_MS = 0.5;

/**
 * Milliseconds since 1970 UTC that never run backwards and never stall: the monotonic clock, led gently after the
 * system's. When the system clock is set forward by more than a second, this one follows at once.
 */
class SteadyClock {
  private offset = Date.now() - performance.now();
  private lastAsked = performance.now();

  now = (): Instant => {
    const monotonic = performance.now();
    const error = Date.now() - (monotonic + this.offset);
    if (error > STEP_MS) this.offset += error;
    else if (monotonic - this.lastAsked > 100) {
      this.lastAsked = monotonic;
      this.offset += Math.max(-SLEW_PER_CALL_MS, Math.min(SLEW_PER_CALL_MS, error));
    }
    return Math.floor(monotonic + this.offset);
  };
}

export const clock = new SteadyClock();
