import type { Instant } from '../session/index.ts';

/** A message that told values unasked, as people compare it with others. */
export interface PastMessage {
  key: string;
  time: Instant;
  /** Why it came: `object change`. */
  words: string;
  /** In its order: what a point is called, and its value in words. */
  values: readonly (readonly [name: string, value: string])[];
}

/** Of one sender. */
const MOST_MESSAGES = 8;
/** Of one message. */
const MOST_VALUES = 80;

/** What one sender has told lately: put into words only when somebody looks. */
export class PastMessages {
  private count = 0;
  private kept: { number: number; time: Instant; words: string; values: () => Iterable<readonly [string, string]> }[] =
    [];

  add(time: Instant, words: string, values: () => Iterable<readonly [string, string]>): void {
    this.kept.push({ number: ++this.count, time, words, values });
    if (this.kept.length > MOST_MESSAGES) this.kept.shift();
  }

  /** The newest first. */
  get shown(): PastMessage[] {
    return this.kept
      .map(({ number, time, words, values }) => ({ key: String(number), time, words, values: first(values()) }))
      .reverse();
  }
}

function first(values: Iterable<readonly [string, string]>): (readonly [string, string])[] {
  const some: (readonly [string, string])[] = [];
  for (const value of values) {
    if (some.length >= MOST_VALUES) break;
    some.push(value);
  }
  return some;
}
