import '../../words/index.ts';
import { z } from 'zod';
import { fromHex } from '../../bytes/index.ts';
import type { AssociationSettings, Selectors } from './association.ts';
import type { Title } from './wire/acse.ts';
import { ServiceBit, type Negotiated } from './wire/pdu.ts';

/* What an association needs to be told, at either end, whatever is asked over it. Times in milliseconds. */

export const milliseconds = (low: number, high: number, fallback: number): z.ZodDefault<z.ZodNumber> =>
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

/** Of whoever calls. */
export const callingShape = {
  /** By which the server is found behind its address; by which we say who asks. */
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
  responseTimeoutMs: milliseconds(100, 120_000, 5000),
  associateTimeoutMs: milliseconds(100, 120_000, 10_000),
  /** A server that has said nothing for so long is asked whether it is there. */
  keepAliveMs: milliseconds(500, 3_600_000, 10_000),
};
export type CallingSettings = z.infer<z.ZodObject<typeof callingShape>>;

/** Of whoever is called. */
export const calledShape = {
  transportSelector: selector(32, '0001'),
  sessionSelector: selector(16, '0001'),
  presentationSelector: selector(16, '00000001'),
  password,
};
export type CalledSettings = z.infer<z.ZodObject<typeof calledShape>>;

/** What we propose, and take at most. */
export const AGREEMENT: Negotiated = {
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

export const callingSettings = (settings: CallingSettings): AssociationSettings => ({
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
export const calledSettings = (settings: CalledSettings): AssociationSettings => ({
  ours: selectorsOf(settings.transportSelector, settings.sessionSelector, settings.presentationSelector),
  theirs: selectorsOf('', '', ''),
  ourTitle: null,
  theirTitle: null,
  password: settings.password === '' ? null : settings.password,
  agreement: AGREEMENT,
  tpduSize: TPDU_SIZE,
  timeoutMs: 10_000,
});

/** What both ends can have. */
export const agreedOn = (theirs: Negotiated, ours: Negotiated): Negotiated => ({
  size: Math.min(theirs.size ?? Infinity, ours.size ?? 65_000),
  calling: Math.min(theirs.calling, ours.calling),
  called: Math.min(theirs.called, ours.called),
  nesting: Math.min(theirs.nesting ?? Infinity, ours.nesting ?? 10),
  parameters: theirs.parameters.filter((one) => ours.parameters.includes(one)),
  services: ours.services,
});
