import type { Instant } from '../session/index.ts';

/** Four limit levels in the point's unit; null: not watched. */
export interface Limits {
  lowLow: number | null;
  low: number | null;
  high: number | null;
  highHigh: number | null;
  /** How far a value has to come back inside a limit before it counts as inside. */
  hysteresis: number;
  /** How long a value has to stay beyond a limit before it counts; milliseconds. */
  delayMs: number;
}

export const LIMIT_LEVELS = ['lowLow', 'low', 'high', 'highHigh'] as const;
export type LimitLevel = (typeof LIMIT_LEVELS)[number];

export const LEVEL_WORDS: Record<LimitLevel, string> = {
  lowLow: 'low-low',
  low: 'low',
  high: 'high',
  highHigh: 'high-high',
};

/** Whether the levels that are set stand in their order. */
export function inOrder({ lowLow, low, high, highHigh }: Limits): boolean {
  const set = [lowLow, low, high, highHigh].filter((level) => level !== null);
  return set.every((level, i) => i === 0 || set[i - 1] < level);
}

/**
 * Which level a value is beyond.
 *
 * Rules:
 * 1. A value is beyond a high limit when it is at or above it, beyond a low limit when at or below it; the outer level
 *    counts when both hold.
 * 2. Going outwards counts after `delayMs` beyond that limit without a break.
 * 3. Coming back counts at once, but only when the value is inside the limit by more than the hysteresis.
 */
export class LimitWatch {
  private pending: { level: LimitLevel; since: Instant } | null = null;

  constructor(
    private readonly limits: Limits,
    /** Beyond which it is known to be: of an earlier watch of the same limits. */
    public level: LimitLevel | null = null,
  ) {}

  /** When a pending level becomes due; null: nothing pends. */
  get deadline(): Instant | null {
    return this.pending === null ? null : this.pending.since + this.limits.delayMs;
  }

  /** Takes a value; returns whether the level changed. */
  take(value: number, now: Instant): boolean {
    const before = this.level;
    const wanted = this.beyond(value, 0);
    const kept = this.level !== null && this.isBeyond(this.level, value, this.limits.hysteresis) ? this.level : null;
    if (wanted === null || depth(wanted) <= depth(kept)) {
      this.pending = null;
      this.level = kept ?? this.stepIn(value);
      return this.level !== before;
    }
    if (this.pending?.level !== wanted)
      this.pending = {
        level: wanted,
        // Further outwards on the same side: it was beyond this one's neighbour already, not beyond this one.
        since: now,
      };
    if (kept === null && before !== null) this.level = this.stepIn(value);
    this.wake(now);
    return this.level !== before;
  }

  /** A deadline has passed; returns whether the level changed. */
  wake(now: Instant): boolean {
    if (this.pending === null || now < this.pending.since + this.limits.delayMs) return false;
    this.level = this.pending.level;
    this.pending = null;
    return true;
  }

  /** Having left an outer level, a value may still be beyond the inner one on that side. */
  private stepIn(value: number): LimitLevel | null {
    if (this.level === 'highHigh' && this.isBeyond('high', value, this.limits.hysteresis)) return 'high';
    if (this.level === 'lowLow' && this.isBeyond('low', value, this.limits.hysteresis)) return 'low';
    return null;
  }

  private beyond(value: number, hysteresis: number): LimitLevel | null {
    for (const level of ['highHigh', 'lowLow', 'high', 'low'] as const)
      if (this.isBeyond(level, value, hysteresis)) return level;
    return null;
  }

  private isBeyond(level: LimitLevel, value: number, hysteresis: number): boolean {
    const limit = this.limits[level];
    if (limit === null) return false;
    return level === 'high' || level === 'highHigh' ? value >= limit - hysteresis : value <= limit + hysteresis;
  }
}

const depth = (level: LimitLevel | null): number => (level === null ? 0 : level === 'high' || level === 'low' ? 1 : 2);
