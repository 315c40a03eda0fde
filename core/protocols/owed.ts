import type { Instant } from '../session/index.ts';

/**
 * Numbers of events that have to reach the other side. They ascend over restarts, although the last of them may have
 * been given out without being stored: they follow the clock, in microseconds, and never fall behind one another.
 */
export class EventNumbers {
  constructor(private lastGiven: number) {}

  /** The highest that was ever given out. */
  get last(): number {
    return this.lastGiven;
  }

  next(now: Instant): number {
    this.lastGiven = Math.max(this.lastGiven + 1, Math.floor(now) * 1000);
    return this.lastGiven;
  }
}

/** Of a queue: what was settled since it was asked last. */
export interface SettledPart {
  position: number;
  beyond: readonly number[];
}

/**
 * How far a queue is settled, from the oldest event that is still owed in it (null: none is) and those that were settled
 * since: nothing older than the oldest is owed.
 */
export function settledPart(oldest: number | null, last: number, settled: readonly number[]): SettledPart {
  const position = oldest === null ? last : oldest - 1;
  return { position, beyond: settled.filter((number) => number > position) };
}
