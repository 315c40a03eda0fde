import { z } from 'zod';
import { KIND_WORDS, type PointKind } from '../../point/index.ts';
import { octetText } from '../../bytes/index.ts';
import type { Result } from '../../session/index.ts';
import type { AtField, AtProblem, Placed, AddressText, PointAddressing } from '../definition.ts';
import { dataClass } from './model/cdc.ts';
import { objectInfo } from './model/nodes.ts';
import {
  CONSTRAINTS,
  nodeName,
  parse,
  print,
  printPath,
  sortKey,
  type Constraint,
  type Reference,
} from './model/reference.ts';
import type { ClientSettings } from './settings.ts';

/*
 * A point of a device is a value of its model, by its reference with functional constraint:
 *
 *   HLMF1/MMXU1.A.phsA.cVal.mag.f[MX]   a value; its quality and time are those nearest to it
 *   HLMF1/XCBR1.Pos[ST]                 a data object: the value that is meant by its class
 *   HLMF1/CSWI1.Pos[CO]                 what is operated; it shows what its status or measurand says
 *   HLMF1/PTOC1.StrVal.setMag.f[SP]     a setting, which is written as it is
 */

const constraints = Object.keys(CONSTRAINTS) as [Constraint, ...Constraint[]];

export const WAYS = ['auto', 'poll'] as const;

const shape = {
  protocol: z.literal('iec61850'),
  /** With dots and without constraint: `HLMF1/XCBR1.Pos.stVal`. */
  reference: z.string(),
  fc: z.enum(constraints),
  /** By report where one carries it, or read in any case. */
  way: z.enum(WAYS).default('auto'),
};
const isReference = ({ reference, fc }: { reference: string; fc: string }): boolean => parse(`${reference}[${fc}]`).ok;
const NO_REFERENCE = 'A reference is a logical device, a node and an object in it, as in HLMF1/XCBR1.Pos.stVal[ST]';

export const pointAtSchema = z.object(shape).refine(isReference, NO_REFERENCE);
export const draftAtSchema = z.object(shape).refine((at) => at.reference === '' || isReference(at), NO_REFERENCE);
export type IecAt = z.infer<typeof pointAtSchema>;
export type IecDraftAt = z.infer<typeof draftAtSchema>;

/** A data object as our server offers it: `HLM/GGIO1.Ind3[ST]`. */
export const targetAtSchema = z.object({
  protocol: z.literal('iec61850'),
  offered: z.literal(true).default(true),
  device: z.string().regex(/^[A-Za-z][A-Za-z0-9_]{0,63}$/, 'A logical device has 1 to 64 letters, digits and _'),
  node: z
    .string()
    .refine(
      (name) => nodeName(name) !== null && name.length <= 32,
      'A logical node is a class of four capitals and a number, as in GGIO1',
    ),
  object: z
    .string()
    .regex(
      /^[A-Z][A-Za-z0-9]{0,31}(\.[A-Za-z][A-Za-z0-9]{0,31}){0,3}$/,
      'A data object has 1 to 32 letters and digits, a capital first; behind a dot one that is in it, as in A.phsA',
    ),
  fc: z.enum(['ST', 'MX', 'CO']),
  cdc: z.enum(['SPS', 'DPS', 'INS', 'MV', 'BCR', 'VSS', 'SPC', 'DPC', 'INC', 'APC']),
});
export type IecTargetAt = z.infer<typeof targetAtSchema>;

export const referenceOf = ({ reference, fc }: Pick<IecAt, 'reference' | 'fc'>): Reference => {
  const read = parse(`${reference}[${fc}]`);
  if (!read.ok) throw new Error(read.problem);
  return read.value;
};

export const iecAt = (text: string): IecAt => {
  const read = parse(text);
  if (!read.ok) throw new Error(read.problem);
  return pointAtSchema.parse({ protocol: 'iec61850', reference: printPath(read.value), fc: read.value.fc });
};

const isTarget = (at: IecDraftAt | IecTargetAt): at is IecTargetAt => 'offered' in at;

const printed = (at: IecDraftAt | IecTargetAt): string =>
  isTarget(at)
    ? `${at.device}/${at.node}.${at.object}[${at.fc}]`
    : at.reference === ''
      ? ''
      : `${at.reference}[${at.fc}]`;

/** What kind of point a reference is, by the tables of nodes and classes and by the names of its attributes. */
export function kindAt({ node, path, fc }: Reference): PointKind {
  const last = path.at(-1)?.replace(/\(\d+\)$/, '') ?? '';
  const own = OF_ATTRIBUTE[last];
  const [object = ''] = path;
  const name = nodeName(node);
  const cdc = name === null ? null : dataClass(objectInfo(name.class, object)?.cdc ?? '');
  if (fc === 'CO') {
    if (cdc?.name === 'SPC' || cdc?.name === 'DPC') return 'output';
    return cdc?.isControlled || /^(AnOut|ISCSO)/.test(object) ? 'setpoint' : 'output';
  }
  if (fc === 'SP' || fc === 'SG' || fc === 'SE') return cdc?.kind === 'text' ? 'text' : 'setpoint';
  if (own !== undefined) return own;
  if (cdc?.kind != null && (path.length === 1 || cdc.value.at(-1) === last)) return cdc.kind;
  return fc === 'MX' ? 'analog' : fc === 'DC' ? 'text' : 'binary';
}
const OF_ATTRIBUTE: Record<string, PointKind | undefined> = {
  actVal: 'counter',
  frVal: 'counter',
  general: 'binary',
  phsA: undefined,
  posVal: 'analog',
  f: 'analog',
  i: 'analog',
  vendor: 'text',
  swRev: 'text',
  hwRev: 'text',
  d: 'text',
};

/** Kinds that a constraint goes with. */
const KINDS: Partial<Record<Constraint, readonly PointKind[]>> = {
  ST: ['binary', 'doubleBit', 'analog', 'counter', 'text'],
  MX: ['analog', 'counter'],
  CO: ['output', 'setpoint'],
  SP: ['setpoint', 'text', 'analog', 'binary'],
  SG: ['analog', 'binary', 'text'],
  DC: ['text'],
  CF: ['analog', 'binary', 'text', 'doubleBit'],
  OR: ['binary', 'analog'],
};

const problem = (words: string): { ok: false; problem: string } => ({ ok: false, problem: words });

function setReference(point: Placed<IecDraftAt>, text: string): Result<Placed<IecDraftAt>, string> {
  const { kind, at } = point;
  if (text.trim() === '') return { ok: true, value: { kind, at: { ...at, reference: '' } } };
  // Without its constraint it is of the one that its kind usually has.
  const read = parse(
    /[[\s$]/.test(text.trim()) ? text : `${text.trim()}[${at.reference === '' ? usualOf(kind) : at.fc}]`,
  );
  if (!read.ok) return problem(`"${text.trim().slice(0, 60)}" is no reference: ${read.problem}`);
  const { fc } = read.value;
  const fits = KINDS[fc]?.includes(kind) ?? false;
  return {
    ok: true,
    value: { kind: fits ? kind : kindAt(read.value), at: { ...at, reference: printPath(read.value), fc } },
  };
}

const usualOf = (kind: PointKind): Constraint =>
  kind === 'analog' ? 'MX' : kind === 'output' || kind === 'setpoint' ? 'CO' : 'ST';

const fields: readonly AtField<IecDraftAt>[] = [
  {
    key: 'constraint',
    title: 'Functional constraint',
    help: constraints.map((fc) => `${fc} ${CONSTRAINTS[fc]}`).join(', '),
    aliases: ['fc', 'functional constraint'],
    choices: constraints,
    text: ({ at }) => at.fc,
    set: ({ at }, text) => {
      const fc = constraints.find((one) => one === text.trim().toUpperCase());
      return fc === undefined
        ? problem(`"${text.trim()}" is none of ${constraints.join(', ')}`)
        : { ok: true, value: { ...at, fc } };
    },
  },
  {
    key: 'way',
    title: 'Comes by',
    help: 'auto: by report where one carries it; poll: read in any case',
    aliases: ['acquisition', 'report or poll'],
    choices: WAYS,
    text: ({ at }) => at.way,
    set: ({ at }, text) => {
      const way = WAYS.find((one) => one === text.trim().toLowerCase());
      return way === undefined ? problem(`"${text.trim()}" is not auto or poll`) : { ok: true, value: { ...at, way } };
    },
  },
];

function check({ kind, at }: Placed<IecDraftAt>, settings: ClientSettings | null): AtProblem[] {
  const problems: AtProblem[] = [];
  const kinds = KINDS[at.fc] ?? [];
  if (!kinds.includes(kind))
    problems.push({
      severity: 'problem',
      field: 'kind',
      words: `what has the constraint ${at.fc} (${CONSTRAINTS[at.fc]}) cannot be a ${KIND_WORDS[kind].one}`,
    });
  if (settings !== null && settings.pollMs === 0 && (at.way === 'poll' || settings.reports === 'none'))
    problems.push({ severity: 'warning', field: 'way', words: 'nothing is polled: it is never read' });
  return problems;
}

const DEFAULTS = { way: 'auto' } as const;
/** The longest text of a model (IEC 61850-8-1: VisibleString255). */
const LONGEST_TEXT = 255;

export const address: AddressText<IecDraftAt | IecTargetAt> = {
  print: ({ at }) => printed(at),
  sort: ({ at }) => {
    if (!isTarget(at) && at.reference === '') return '~';
    const read = parse(printed(at));
    return read.ok ? sortKey(read.value) : '~';
  },
};

export const points: PointAddressing<IecAt, IecDraftAt, ClientSettings> = {
  at: pointAtSchema,
  draftAt: draftAtSchema,
  kinds: ['binary', 'doubleBit', 'output', 'analog', 'counter', 'setpoint', 'text'],
  defaults: DEFAULTS,
  history: 'every',
  outputShows: true,
  blank: (kind) => ({ ...DEFAULTS, protocol: 'iec61850', reference: '', fc: usualOf(kind) }),
  parse: (text) => {
    const read = parse(text);
    if (!read.ok) return null;
    const { value } = read;
    if (value.path.length === 0) return null;
    return {
      kind: kindAt(value),
      at: { ...DEFAULTS, protocol: 'iec61850', reference: printPath(value), fc: value.fc },
    };
  },
  cell: {
    key: 'index',
    title: 'Reference',
    help: 'logical device / node . object . attribute and functional constraint: HLMF1/XCBR1.Pos.stVal[ST]',
    aliases: ['reference', 'object reference', 'address', 'iec 61850 reference', 'mms name'],
    text: ({ at }) => printed(at),
    set: setReference,
  },
  isNumbered: false,
  series: ({ at }) => at.fc,
  number: () => null,
  withNumber: (at) => at,
  width: () => 1,
  highest: 0,
  fields,
  check,
  sendable: ({ kind, at }, counts) => {
    if (kind !== 'setpoint' || (at.fc !== 'CO' && at.fc !== 'SP')) return problem('it is not a number that can be set');
    return Number.isFinite(counts) ? { ok: true, value: counts } : problem(`${counts} is no number`);
  },
  writable: ({ kind, at }, text) =>
    kind !== 'text' || at.fc !== 'SP'
      ? problem('only a text that is a setting (SP) can be written')
      : octetText(text, LONGEST_TEXT, false),
  form: ({ at }) => (at.fc === 'CO' ? 'Oper' : at.fc),
};
export { print as printReference };
