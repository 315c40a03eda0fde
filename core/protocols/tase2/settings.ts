import '../../words/index.ts';
import { z } from 'zod';
import { calledShape, callingShape, milliseconds } from '../mms/settings.ts';

export const NAME = /^[A-Za-z_$][A-Za-z0-9_$]{0,31}$/;
const name = (what: string): z.ZodString =>
  z.string().regex(NAME, `${what} has 1 to 32 letters, digits, _ and $, and begins with no digit`);
const table = z
  .string()
  .regex(/^[ -~]{0,32}$/, 'The id of a bilateral table has at most 32 printable ASCII characters')
  .default('');

/** Settings of our client towards a peer. Times in milliseconds; a period of 0: never. */
export const clientSettings = z.object({
  ...callingShape,
  /** The peer's domain that our agreement is about. */
  domain: name('A domain').default('ICC1'),
  /** Which the peer has to have; empty: whichever it has. */
  bilateralTable: table,
  /** Whether changes are reported by transfer sets. */
  reports: z.boolean().default(true),
  /** All values of a transfer set each so often. */
  integrityMs: milliseconds(0, 86_400_000, 60_000),
  /** Each report is repeated until we have stored it, and said so. */
  critical: z.boolean().default(false),
  /** The peer gathers changes for so long; it counts in seconds. */
  bufferMs: milliseconds(0, 600_000, 0),
  /** Whether reports come packed into one octet string each, where the peer can do that. */
  blocked: z.boolean().default(false),
  /** Whether messages of the peer are wanted. */
  messages: z.boolean().default(true),
  /** What no transfer set brings is read each so often. */
  pollMs: milliseconds(0, 86_400_000, 5000),
  /** Points of one data set. */
  setPoints: z.number().int().min(1).max(1000).default(300),
  timeAheadMs: milliseconds(1000, 31_622_400_000, 600_000),
  timeBehindMs: milliseconds(1000, 315_360_000_000, 34_560_000_000),
});
export type ClientSettings = z.infer<typeof clientSettings>;

/** Settings of our server towards a peer. */
export const serverSettings = z.object({
  ...calledShape,
  domain: name('A domain').default('HALVIX'),
  bilateralTable: table,
  /** How many transfer sets there are. */
  transferSets: z.number().int().min(1).max(100).default(5),
  /** Associations of the peer at the same time. */
  maxClients: z.number().int().min(1).max(8).default(2),
  /** Whether reports may be packed into one octet string each, where the peer wants that. */
  blocked: z.boolean().default(false),
  /** How long something stays selected. */
  selectMs: milliseconds(1000, 600_000, 30_000),
});
export type ServerSettings = z.infer<typeof serverSettings>;
