import { z } from 'zod';
import { linkAddress } from './address.ts';

const milliseconds = (low: number, high: number, fallback: number): z.ZodDefault<z.ZodNumber> =>
  z.number().int().min(low).max(high).default(fallback);

/** Longest fragment either end sends or takes by default (IEEE 1815, clause 4.1: 2048 octets is the usual value). */
const fragmentOctets = z.number().int().min(249).max(65535).default(2048);

/** Settings of our master towards a device. Times in milliseconds; a period of 0 switches that poll off. */
export const masterSettings = z.object({
  ourAddress: linkAddress,
  theirAddress: linkAddress,
  responseTimeoutMs: milliseconds(50, 120_000, 1000),
  retries: z.number().int().min(0).max(10).default(2),
  /** How often a silent device is asked. */
  silentPeriodMs: milliseconds(500, 3_600_000, 15_000),
  integrityPeriodMs: milliseconds(0, 86_400_000, 60_000),
  class1PeriodMs: milliseconds(0, 86_400_000, 1000),
  class2PeriodMs: milliseconds(0, 86_400_000, 1000),
  class3PeriodMs: milliseconds(0, 86_400_000, 5000),
  disableUnsolicited: z.boolean().default(true),
  timeSync: z.enum(['whenAsked', 'never']).default('whenAsked'),
  /** How long an answer with events may wait for its commit before its confirm counts as late. */
  commitWaitMs: milliseconds(100, 60_000, 4000),
  maxFragment: fragmentOctets,
});
export type MasterSettings = z.infer<typeof masterSettings>;

/** Settings of an outstation. Times in milliseconds. */
export const outstationSettings = z.object({
  ourAddress: linkAddress,
  theirAddress: linkAddress,
  confirmTimeoutMs: milliseconds(100, 120_000, 5000),
  selectTimeoutMs: milliseconds(100, 120_000, 10_000),
  /** Events kept for each class; the oldest of the class goes when one more comes. */
  eventsPerClass: z.number().int().min(10).max(1_000_000).default(10_000),
  maxControls: z.number().int().min(1).max(255).default(16),
  /** Ask the master for the time when it connects, and take it over. */
  takesTime: z.boolean().default(false),
  maxFragment: fragmentOctets,
  /** What it says of itself when asked, by the variation of group 0: printable ASCII. */
  attributes: z
    .record(
      z.string().regex(/^(19[6-9]|2[0-4]\d|25[0-3])$/, 'A device attribute is 196 to 253'),
      z.string().regex(/^[ -~]{0,200}$/, 'A device attribute has at most 200 printable ASCII characters'),
    )
    .default({}),
});
export type OutstationSettings = z.infer<typeof outstationSettings>;
