import '../../words/index.ts';
import { z } from 'zod';
import { fromHex } from '../../bytes/index.ts';
import type { AssociationSettings, Selectors } from '../mms/association.ts';
import type { Agreement } from '../mms/wire/pdu.ts';
import { ServiceBit } from '../mms/wire/pdu.ts';
import type { Title } from '../mms/wire/acse.ts';
import { MODELS } from './control.ts';

const milliseconds = (low: number, high: number, fallback: number): z.ZodDefault<z.ZodNumber> =>
  z.number().int().min(low).max(high).default(fallback);

/** Octets in hexadecimal digits, at most so many (ISO 8073 and ISO 8327-1: 32 and 16; common practice: 2, 2 and 4). */
const selector = (most: number, fallback: string): z.ZodDefault<z.ZodString> =>
  z
    .string()
    .regex(new RegExp(`^([0-9A-Fa-f]{2}){0,${most}}$`), `A selector has 0 to ${most} octets, two digits 0 to F each`)
    .default(fallback);
const TITLE = /^([0-2](\.\d{1,9}){1,15})?$/;
const title = z
  .string()
  .regex(TITLE, 'An application title is numbers with dots, as in 1.1.1.999.1, or nothing')
  .default('');
const qualifier = z.number().int().min(0, 'A qualifier is at least 0').max(65_535, 'A qualifier is at most 65535');
const password = z
  .string()
  .regex(/^[ -~]{0,64}$/, 'A password has at most 64 printable ASCII characters')
  .default('');

/** Who operates, as devices are told (IEC 61850-7-3: originator category). */
export const ORIGINS = { bay: 1, station: 2, remote: 3 } as const;

/** Settings of our client towards a device. Times in milliseconds; a period of 0: never. */
export const clientSettings = z.object({
  /** By which its server is found behind its address; by which we say who asks. */
  transportSelector: selector(32, '0001'),
  sessionSelector: selector(16, '0001'),
  presentationSelector: selector(16, '00000001'),
  applicationTitle: title,
  applicationQualifier: qualifier.default(12),
  ourTransportSelector: selector(32, '0001'),
  ourSessionSelector: selector(16, '0001'),
  ourPresentationSelector: selector(16, '00000001'),
  ourTitle: title,
  ourQualifier: qualifier.default(12),
  password,
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
  responseTimeoutMs: milliseconds(100, 120_000, 5000),
  associateTimeoutMs: milliseconds(100, 120_000, 10_000),
  /** A device that has said nothing for so long is asked whether it is there. */
  keepAliveMs: milliseconds(500, 3_600_000, 10_000),
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
  transportSelector: selector(32, '0001'),
  sessionSelector: selector(16, '0001'),
  presentationSelector: selector(16, '00000001'),
  password,
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

/** What we propose, and take at most. */
export const AGREEMENT: Agreement = {
  size: 65_000,
  calling: 10,
  called: 10,
  nesting: 10,
  parameters: ['str1', 'str2', 'vnam', 'valt', 'vlis'],
  services: Object.values(ServiceBit),
};
const TPDU_SIZE = 8192;

const selectorsOf = (transport: string, session: string, presentation: string): Selectors => ({
  transport: fromHex(transport),
  session: fromHex(session),
  presentation: fromHex(presentation),
});
const titleOf = (text: string, number: number): Title | null =>
  text === '' ? null : { title: text, qualifier: number };

export const callingSettings = (settings: ClientSettings): AssociationSettings => ({
  ours: selectorsOf(settings.ourTransportSelector, settings.ourSessionSelector, settings.ourPresentationSelector),
  theirs: selectorsOf(settings.transportSelector, settings.sessionSelector, settings.presentationSelector),
  ourTitle: titleOf(settings.ourTitle, settings.ourQualifier),
  theirTitle: titleOf(settings.applicationTitle, settings.applicationQualifier),
  password: settings.password === '' ? null : settings.password,
  agreement: AGREEMENT,
  tpduSize: TPDU_SIZE,
  timeoutMs: settings.associateTimeoutMs,
});

/** Whoever calls says who they are; it is not asked of them. */
export const calledSettings = (settings: ServerSettings): AssociationSettings => ({
  ours: selectorsOf(settings.transportSelector, settings.sessionSelector, settings.presentationSelector),
  theirs: selectorsOf('', '', ''),
  ourTitle: null,
  theirTitle: null,
  password: settings.password === '' ? null : settings.password,
  agreement: AGREEMENT,
  tpduSize: TPDU_SIZE,
  timeoutMs: 10_000,
});
