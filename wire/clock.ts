import type { Instant } from '@halvix/core/session';

const STEP_MS = 1000;
const SLEW_PER_CALL_MS = 0.5;
/** After a step times are doubted for so long: what set the clock may set it again. */
const DOUBTFUL_MS = 10 * 60_000;

/** The machine's own clocks, milliseconds. */
export interface Clocks {
  wall: () => number;
  steady: () => number;
}
const MACHINE: Clocks = { wall: () => Date.now(), steady: () => performance.now() };

/**
 * Milliseconds since 1970 UTC that never run backwards and never stall: the monotonic clock, led gently after the
 * system's. When the system clock is set forward by more than a second, this one follows at once; when it is set back by
 * as much, this one stays ahead (`aheadMs`): whoever waits for a time would wait for ever. Who can begin anew does so.
 */
export class SteadyClock {
  private offset: number;
  private lastAsked: number;
  private last: Instant = -Infinity;
  private lastSteady = -Infinity;
  private steppedAt = -Infinity;
  /** The last step that it followed, milliseconds; 0: none yet. */
  stepMs = 0;

  constructor(private readonly clocks: Clocks = MACHINE) {
    this.offset = clocks.wall() - clocks.steady();
    this.lastAsked = clocks.steady();
  }

  /** Whole milliseconds. */
  now = (): Instant => Math.floor(this.fine());

  /** The same, as fine as the machine tells it. */
  fine = (): Instant => {
    const monotonic = this.clocks.steady();
    const error = this.clocks.wall() - (monotonic + this.offset);
    if (error > STEP_MS) {
      this.offset += error;
      this.steppedAt = monotonic;
      this.stepMs = error;
    } else if (monotonic - this.lastAsked > 100) {
      this.lastAsked = monotonic;
      this.offset += Math.max(-SLEW_PER_CALL_MS, Math.min(SLEW_PER_CALL_MS, error));
    }
    // Led back by half a millisecond it would run backwards once.
    if (monotonic < this.lastSteady) this.last = -Infinity;
    this.lastSteady = monotonic;
    return (this.last = Math.max(this.last, monotonic + this.offset));
  };

  /** Whether it stepped so lately that its times may be wrong. */
  get isDoubtful(): boolean {
    return this.clocks.steady() - this.steppedAt < DOUBTFUL_MS;
  }

  /** How far it is ahead of the system's clock; 0: by no more than is made up for gently. */
  get aheadMs(): number {
    const ahead = this.clocks.steady() + this.offset - this.clocks.wall();
    return ahead > STEP_MS ? Math.round(ahead) : 0;
  }
}

export const clock = new SteadyClock();
