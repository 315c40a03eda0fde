import type { LimitLevel } from './limits.ts';
import type { Instant } from '../session/index.ts';

/** Whose clock a reading's time comes from. Stored by position: only appended to. */
export const TIME_SOURCES = [
  'receipt',
  'device',
  'deviceUnsynchronised',
  'engine',
  'deviceDoubtful',
  'receiptInstead',
  'receiptDoubtful',
] as const;
export type TimeSource = (typeof TIME_SOURCES)[number];

export const TIME_SOURCE_WORDS: Record<TimeSource, string> = {
  receipt: 'receipt',
  device: 'device',
  deviceUnsynchronised: 'device, not synchronised',
  engine: 'engine',
  deviceDoubtful: 'device, too far off',
  receiptInstead: 'receipt, the device’s cannot be',
  receiptDoubtful: 'receipt, our clock was just set',
};

/** What made a reading: a change that the device reported, a look at its present value, or the engine itself. */
export const CAUSES = ['static', 'event', 'engine'] as const;
export type Cause = (typeof CAUSES)[number];

/** One value of one point. */
export interface Reading {
  /** As on the wire: register, count, 0 or 1. */
  raw: number;
  /** Scaled to the point's unit. */
  value: number;
  /** Of a text: its octets, each a character (ISO 8859-1), without the zeros at its end. */
  text?: string;
  /** Bits of `Quality`. */
  quality: number;
  time: Instant;
  timeSource: TimeSource;
  /** When the engine had it. */
  received: Instant;
  cause: Cause;
  /** Which of the point's limits the value is beyond. */
  limit?: LimitLevel | null;
}
