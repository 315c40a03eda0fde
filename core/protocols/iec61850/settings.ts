import '../../words/index.ts';
import { z } from 'zod';
import { calledShape, callingShape, milliseconds } from '../mms/settings.ts';
import { MODELS } from './control.ts';

/** Who operates, as devices are told (IEC 61850-7-3: originator category). */
export const ORIGINS = { bay: 1, station: 2, remote: 3 } as const;

/** Settings of our client towards a device. Times in milliseconds; a period of 0: never. */
export const clientSettings = z.object({
  ...callingShape,
  /** Whether changes are reported by the device, and by which reports rather. */
  reports: z.enum(['buffered', 'unbuffered', 'none']).default('buffered'),
  /** Data sets are made in the device for what no other carries, where it has blocks without one. */
  makeSets: z.boolean().default(true),
  /** All values of a report each so often. */
  integrityMs: milliseconds(0, 86_400_000, 60_000),
  /** The device gathers changes for so long. */
  bufferMs: milliseconds(0, 60_000, 50),
  /** How long a buffered report stays ours when the association is lost, seconds. */
  reserveS: z.number().int().min(0).max(32_767).default(120),
  /** What no report carries is read each so often. */
  pollMs: milliseconds(0, 86_400_000, 2000),
  /** What reports carry is read too. */
  alsoPollMs: milliseconds(0, 86_400_000, 0),
  /** Times of the device further off than this are kept but marked. */
  timeAheadMs: milliseconds(1000, 31_622_400_000, 600_000),
  timeBehindMs: milliseconds(1000, 315_360_000_000, 34_560_000_000),
  origin: z.enum(['bay', 'station', 'remote']).default('remote'),
  originator: z
    .string()
    .regex(/^[ -~]{0,32}$/, 'An originator has at most 32 printable ASCII characters')
    .default('Halvix'),
  /** The device is to check these before it switches. */
  synchrocheck: z.boolean().default(true),
  interlock: z.boolean().default(true),
  /** How long the end of a control may take that the device tells of. */
  terminationMs: milliseconds(100, 600_000, 30_000),
});
export type ClientSettings = z.infer<typeof clientSettings>;

/** Characters of a model file. */
const MOST_FILE = 2_000_000;

/** Settings of our server towards others. */
export const serverSettings = z.object({
  ...calledShape,
  /** Clients that are associated at the same time; each of them finds a report of each data set for itself. */
  maxClients: z.number().int().min(1).max(32).default(4),
  /** Values of reports that are kept in each buffer at most, for a client that was away. */
  bufferValues: z.number().int().min(10).max(1_000_000).default(20_000),
  /** How what may be operated is operated. */
  controlModel: z.enum(MODELS).default('selectBeforeOperateEnhanced'),
  /** A file of the substation configuration language that has the model; null: it is made of what is mapped. */
  modelFile: z
    .object({
      name: z.string().max(200, 'The name of a file has at most 200 characters'),
      text: z.string().max(MOST_FILE, `A model file has at most ${MOST_FILE} characters`),
    })
    .nullable()
    .default(null),
  /** Which of its devices; empty: the only one that has a server. */
  modelDevice: z.string().max(64, 'A device of a file has at most 64 characters').default(''),
  /** How long something stays selected. */
  selectMs: milliseconds(1000, 600_000, 30_000),
});
export type ServerSettings = z.infer<typeof serverSettings>;
