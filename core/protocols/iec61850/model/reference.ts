import type { Result } from '../../../session/index.ts';

/*
 * Object references (IEC 61850-7-2, 22.2): where something is in the model of a server, with its functional constraint.
 *
 *   people      HLMF1/MMXU1.A.phsA.cVal.mag.f[MX]      an element of an array: HarA.phsHar(3)
 *   MMS         domain HLMF1, item MMXU1$MX$A$phsA$cVal$mag$f   (IEC 61850-8-1, 7.3)
 */

/** Functional constraints (IEC 61850-7-2, table 18), in the order in which a node has them. */
export const CONSTRAINTS = {
  ST: 'status',
  MX: 'measurands',
  SP: 'setting',
  SV: 'substitution',
  CF: 'configuration',
  DC: 'description',
  SG: 'setting group',
  SE: 'setting group, editable',
  SR: 'service response',
  OR: 'operate received',
  BL: 'blocking',
  EX: 'extended definition',
  CO: 'control',
  BR: 'buffered report',
  RP: 'unbuffered report',
  LG: 'log',
  GO: 'GOOSE control',
  MS: 'multicast sampled values',
  US: 'unicast sampled values',
} as const;
export type Constraint = keyof typeof CONSTRAINTS;

export interface Reference {
  /** Name of the logical device, as the server has it. */
  device: string;
  /** Prefix, class and number of the logical node: `MMXU1`. */
  node: string;
  /** Data object and what is in it: `A`, `phsA`, `cVal`; an element of an array has its number with it: `phsHar(3)`. */
  path: readonly string[];
  fc: Constraint;
}

/** Characters of a reference without its constraint (IEC 61850-8-1, 7.3.1, edition 2). */
export const MAX_LENGTH = 129;
const MAX_DEVICE = 64;
const NAME = '[A-Za-z][A-Za-z0-9_]*';
const ELEMENT = `${NAME}(?:\\(\\d{1,5}\\))?`;
const DEVICE = new RegExp(`^${NAME}$`);
const NODE = new RegExp(`^${NAME}$`);
const PART = new RegExp(`^${ELEMENT}$`);

const isConstraint = (text: string): text is Constraint => Object.hasOwn(CONSTRAINTS, text);

export const printPath = ({ device, node, path }: Omit<Reference, 'fc'>): string =>
  `${device}/${[node, ...path].join('.')}`;
export const print = (reference: Reference): string => `${printPath(reference)}[${reference.fc}]`;

/** What people write, or paste from MMS: `HLMF1/MMXU1.A.phsA[MX]`, `… MX`, `HLMF1/MMXU1$MX$A$phsA`. */
export function parse(text: string): Result<Reference, string> {
  const wrong = (problem: string): Result<Reference, string> => ({ ok: false, problem });
  const trimmed = text.trim();
  const slash = trimmed.indexOf('/');
  if (slash < 1) return wrong('it has no logical device and / in front, as in HLMF1/MMXU1.A.phsA[MX]');
  const device = trimmed.slice(0, slash);
  const rest = trimmed.slice(slash + 1);
  if (rest.includes('$')) return fromParts(device, rest.split('$'));
  const [, dotted, bracketed, spaced] = /^(\S*?)(?:\[(\w*)\]|\s+(\w+))?$/.exec(rest) ?? [];
  const fc = (bracketed ?? spaced ?? '').toUpperCase();
  if (dotted === undefined) return wrong(`"${rest.slice(0, 40)}" is no node and data object`);
  if (fc === '') return wrong(`it has no functional constraint behind it, as in ${device}/${dotted}[ST]`);
  const [node, ...path] = dotted.split('.');
  return fromParts(device, [node, fc, ...path]);
}

/** From the two parts of a name of MMS. */
export const fromMms = (domain: string, item: string): Result<Reference, string> => fromParts(domain, item.split('$'));

function fromParts(device: string, [node, fc, ...path]: string[]): Result<Reference, string> {
  const wrong = (problem: string): Result<Reference, string> => ({ ok: false, problem });
  if (!DEVICE.test(device)) return wrong(`"${device.slice(0, 40)}" is no name of a logical device`);
  if (device.length > MAX_DEVICE)
    return wrong(`the logical device has ${device.length} characters, at most ${MAX_DEVICE}`);
  if (node === undefined || !NODE.test(node)) return wrong(`"${(node ?? '').slice(0, 40)}" is no logical node`);
  if (fc === undefined || !isConstraint(fc))
    return wrong(
      `"${(fc ?? '').slice(0, 10)}" is none of the functional constraints ${Object.keys(CONSTRAINTS).join(', ')}`,
    );
  const bad = path.find((part) => !PART.test(part));
  if (bad !== undefined) return wrong(`"${bad.slice(0, 40)}" is no name of a data object or attribute`);
  const reference = { device, node, path, fc };
  const { length } = printPath(reference);
  return length > MAX_LENGTH
    ? wrong(`it has ${length} characters, at most ${MAX_LENGTH}`)
    : { ok: true, value: reference };
}

/** The name in MMS. An element of an array is a part of its variable: it is not in the name. */
export function toMms({ device, node, path, fc }: Reference): {
  domain: string;
  item: string;
  part: (string | number)[];
} {
  const at = path.findIndex((one) => one.endsWith(')'));
  if (at < 0) return { domain: device, item: [node, fc, ...path].join('$'), part: [] };
  const [, name, index] = /^(.*)\((\d+)\)$/.exec(path[at]) ?? ['', path[at], '0'];
  return {
    domain: device,
    item: [node, fc, ...path.slice(0, at), name].join('$'),
    part: [Number(index), ...path.slice(at + 1)],
  };
}

export interface NodeName {
  prefix: string;
  /** Four capitals. */
  class: string;
  instance: string;
}

/** What a logical node is called: its class is the last four capitals before its number; of LLN0 the 0 is one of them. */
export function nodeName(node: string): NodeName | null {
  if (node === 'LLN0') return { prefix: '', class: 'LLN0', instance: '' };
  const match = /^([A-Za-z0-9_]*?)([A-Z]{4})(\d*)$/.exec(node);
  return match && { prefix: match[1], class: match[2], instance: match[3] };
}

/** A text whose order is the one in which people read references: numbers by their value, LLN0 and LPHD before others. */
export function sortKey({ device, node, path, fc }: Reference): string {
  const natural = (text: string): string => text.replace(/\d+/g, (digits) => digits.padStart(6, '0'));
  const name = nodeName(node);
  const first = name?.class === 'LLN0' ? 0 : name?.class === 'LPHD' ? 1 : 2;
  return [natural(device), `${first}${natural(node)}`, ...path.map(natural), fc].join(' ');
}
