import '../../words/index.ts';
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
  /** How often a silent device is asked, and how long its answer is waited for. */
  silentPeriodMs: milliseconds(500, 3_600_000, 15_000),
  silentTimeoutMs: milliseconds(50, 120_000, 500),
  integrityPeriodMs: milliseconds(0, 86_400_000, 60_000),
  class1PeriodMs: milliseconds(0, 86_400_000, 1000),
  class2PeriodMs: milliseconds(0, 86_400_000, 1000),
  class3PeriodMs: milliseconds(0, 86_400_000, 5000),
  disableUnsolicited: z.boolean().default(true),
  /** Classes whose events the device may send unasked, enabled after start-up. */
  unsolicitedClasses: z.array(z.union([z.literal(1), z.literal(2), z.literal(3)])).default([]),
  /** Event classes asked for in one request, one by one, or by objects, for a device that knows no classes. */
  eventReads: z.enum(['together', 'apart', 'objects']).default('together'),
  /** Present values asked for by class 0 or by objects. */
  presentReads: z.enum(['class0', 'objects']).default('class0'),
  /** At most so many events of a class in one answer; 0: as many as it likes. */
  eventsAtOnce: z.number().int().min(0).max(65_535).default(0),
  /** Ask again at once while answers bring events and more wait. */
  pollAgain: z.boolean().default(true),
  /** From the end of one request to the beginning of the next at least. */
  minimumGapMs: milliseconds(0, 60_000, 0),
  /** Times of the device further ahead of ours, or further behind, are kept but marked. */
  timeAheadMs: milliseconds(1000, 31_622_400_000, 600_000),
  timeBehindMs: milliseconds(1000, 315_360_000_000, 34_560_000_000),
  /** By delay measurement, for serial lines and radio, or by recording the current time, for a LAN. */
  timeSync: z.enum(['whenAsked', 'whenAskedLan', 'never']).default('whenAsked'),
  /** How often the device's clock is read and compared with ours; 0: never. */
  clockCheckMs: milliseconds(0, 86_400_000, 0),
  /** A connection that was quiet for so long is tested with a link status request; 0: never. */
  keepAliveMs: milliseconds(0, 86_400_000, 0),
  /** The part of a shared line that the device gets, against its neighbours'. */
  share: z.number().int().min(1).max(100).default(1),
  /** Confirmed link service: each link frame is acknowledged. */
  linkConfirm: z.boolean().default(false),
  linkTimeoutMs: milliseconds(20, 60_000, 1000),
  linkRetries: z.number().int().min(0).max(10).default(2),
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
  /** Send events unasked, once the master has enabled it; after a restart an empty unsolicited response comes first. */
  unsolicited: z.boolean().default(false),
  /** Events are gathered for so long before they go out unasked. */
  unsolicitedDelayMs: milliseconds(0, 3_600_000, 500),
  /** An unsolicited response without its confirm is sent again so often at `confirmTimeoutMs`, then every `unsolicitedRestMs`. */
  unsolicitedRetries: z.number().int().min(0).max(100).default(3),
  unsolicitedRestMs: milliseconds(100, 3_600_000, 30_000),
  /** How long it is away after a restart that the master asks for, milliseconds; null: refuse that. */
  restartsInMs: z.number().int().min(0).max(65_535).nullable().default(null),
  /** Answer requests to the self-address. */
  selfAddress: z.boolean().default(false),
  /** Confirmed link service: each link frame is acknowledged. */
  linkConfirm: z.boolean().default(false),
  linkTimeoutMs: milliseconds(20, 60_000, 1000),
  linkRetries: z.number().int().min(0).max(10).default(2),
  /** Commands that outputs are given, by whomever, go to the centre as events of this class; 0: they do not. */
  commandClass: z.union([z.literal(0), z.literal(1), z.literal(2), z.literal(3)]).default(0),
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
