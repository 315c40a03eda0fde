import { z } from 'zod';
import { KIND_WORDS } from '../../point/index.ts';
import type { Result } from '../../session/index.ts';
import type { AtField, AtProblem, Placed, AddressText, PointAddressing } from '../definition.ts';
import type { ObjectName } from '../mms/wire/names.ts';
import { NAME, type ClientSettings } from './settings.ts';
import { SPECIAL_NAMES } from './transfer.ts';
import { BASES, CONTROLS, INDICATIONS, type PointType } from './types.ts';

/*
 * A point of a peer is an object by its name, in the domain of the agreement or of the whole centre (IEC 60870-6-503:
 * ICC- and VCC-scoped):
 *
 *   ICC1/TIE_MW   in the domain ICC1     TIE_MW   of the whole centre
 */

export const WAYS = ['auto', 'poll'] as const;
/** What the agreement says that a value is; `auto`: what comes, where a state is a State. */
const AGREED = ['auto', ...BASES] as const;
export type Agreed = (typeof AGREED)[number];
const NAME_WORDS = 'A name has 1 to 32 letters, digits, _ and $, and begins with no digit';
const name = z.string().regex(NAME, NAME_WORDS);
const domain = z.union([z.literal(''), name]);
const shape = {
  protocol: z.literal('tase2'),
  /** Empty: of the whole centre. */
  domain,
  /** By transfer set where one brings it, or read in any case. */
  way: z.enum(WAYS).default('auto'),
  type: z.enum(AGREED).default('auto'),
};
export const pointAtSchema = z.object({ ...shape, name });
export const draftAtSchema = z.object({ ...shape, name: z.union([z.literal(''), name]) });
export type TaseAt = z.infer<typeof pointAtSchema>;
export type TaseDraftAt = z.infer<typeof draftAtSchema>;

const TYPES: [PointType, ...PointType[]] = [CONTROLS[0], ...INDICATIONS, ...CONTROLS.slice(1)];

/** An object as our server offers it. */
export const targetAtSchema = z.object({
  protocol: z.literal('tase2'),
  offered: z.literal(true).default(true),
  scope: z.enum(['domain', 'centre']).default('domain'),
  name: name.refine((one) => !SPECIAL_NAMES.has(one), 'This name belongs to the protocol itself'),
  type: z.enum(TYPES),
  /** Of what is operated: it has to be selected first. */
  select: z.boolean().default(false),
  /** It can be tagged. */
  tag: z.boolean().default(false),
});
export type TaseTargetAt = z.infer<typeof targetAtSchema>;

export const nameOfPoint = ({ domain: of, name: item }: Pick<TaseAt, 'domain' | 'name'>): ObjectName =>
  of === '' ? { scope: 'vmd', item } : { scope: 'domain', domain: of, item };

const isTarget = (at: TaseDraftAt | TaseTargetAt): at is TaseTargetAt => 'offered' in at;
export const printAt = (at: TaseDraftAt | TaseTargetAt): string => {
  if (isTarget(at)) return at.scope === 'centre' ? `centre/${at.name}` : at.name;
  return at.name === '' ? '' : at.domain === '' ? at.name : `${at.domain}/${at.name}`;
};

const parseName = (text: string): Result<Pick<TaseAt, 'domain' | 'name'>, string> => {
  const [first, second, ...more] = text.trim().split('/');
  const [of, own] = second === undefined ? ['', first] : [first, second];
  const bad = [...(second === undefined ? [] : [of]), own].find((one) => !NAME.test(one));
  if (more.length > 0) return { ok: false, problem: 'it has more than one /: a domain and a name are all' };
  return bad === undefined
    ? { ok: true, value: { domain: of, name: own } }
    : { ok: false, problem: `"${bad.slice(0, 40)}" is no name: 1 to 32 letters, digits, _ and $` };
};

const natural = (text: string): string => text.replace(/\d+/g, (digits) => digits.padStart(8, '0'));
const problem = (words: string): { ok: false; problem: string } => ({ ok: false, problem: words });

const fields: readonly AtField<TaseDraftAt>[] = [
  {
    key: 'way',
    title: 'Comes by',
    help: 'auto: by transfer set; poll: read in any case',
    aliases: ['acquisition', 'report or poll'],
    choices: WAYS,
    text: ({ at }) => at.way,
    set: ({ at }, text) => {
      const way = WAYS.find((one) => one === text.trim().toLowerCase());
      return way === undefined ? problem(`"${text.trim()}" is not auto or poll`) : { ok: true, value: { ...at, way } };
    },
  },
  {
    key: 'agreedType',
    title: 'Agreed type',
    help: 'what the agreement says that its value is; auto: what comes',
    aliases: ['type in the agreement', 'point type'],
    choices: AGREED,
    text: ({ at }) => at.type,
    set: ({ at }, text) => {
      const type = AGREED.find((one) => one.toLowerCase() === text.trim().toLowerCase());
      return type === undefined
        ? problem(`"${text.trim()}" is not one of ${AGREED.join(', ')}`)
        : { ok: true, value: { ...at, type } };
    },
  },
];

const KINDS = ['binary', 'doubleBit', 'output', 'analog', 'counter', 'setpoint'] as const;
const DEFAULTS = { way: 'auto', type: 'auto' } as const;

function check({ kind, at }: Placed<TaseDraftAt>, settings: ClientSettings | null): AtProblem[] {
  const problems: AtProblem[] = [];
  if (!KINDS.some((one) => one === kind))
    problems.push({ severity: 'problem', field: 'kind', words: `an object is no ${KIND_WORDS[kind].one}` });
  const isState = at.type === 'State' || at.type === 'StateSupplemental';
  if (at.type !== 'auto' && (kind === 'output' || kind === 'setpoint'))
    problems.push({ severity: 'warning', field: 'agreedType', words: 'it is operated: the agreed type says nothing' });
  else if (isState && (kind === 'analog' || kind === 'counter'))
    problems.push({ severity: 'warning', field: 'agreedType', words: `a state as ${KIND_WORDS[kind].one} is 0 to 3` });
  if (settings !== null && settings.pollMs === 0 && (at.way === 'poll' || !settings.reports))
    problems.push({ severity: 'warning', field: 'way', words: 'nothing is polled: it is never read' });
  return problems;
}

export const address: AddressText<TaseDraftAt | TaseTargetAt> = {
  print: ({ at }) => printAt(at),
  sort: ({ at }) => (isTarget(at) ? natural(at.name) : at.name === '' ? '~' : `${at.domain} ${natural(at.name)}`),
};

export const points: PointAddressing<TaseAt, TaseDraftAt, ClientSettings> = {
  at: pointAtSchema,
  draftAt: draftAtSchema,
  kinds: KINDS,
  defaults: DEFAULTS,
  history: 'every',
  outputShows: false,
  blank: () => ({ ...DEFAULTS, protocol: 'tase2', domain: '', name: '' }),
  parse: (text) => {
    const read = parseName(text);
    return read.ok ? { kind: 'analog', at: { ...DEFAULTS, protocol: 'tase2', ...read.value } } : null;
  },
  cell: {
    key: 'index',
    title: 'Object name',
    help: 'domain / name, as in ICC1/TIE_MW; of the whole centre the name alone',
    aliases: ['object name', 'iccp name', 'tase.2 name', 'name in the agreement'],
    text: ({ at }) => printAt(at),
    set: ({ kind, at }, text) => {
      if (text.trim() === '') return { ok: true, value: { kind, at: { ...at, name: '' } } };
      const read = parseName(text);
      return read.ok ? { ok: true, value: { kind, at: { ...at, ...read.value } } } : problem(read.problem);
    },
  },
  isNumbered: false,
  series: ({ at }) => at.domain,
  number: () => null,
  withNumber: (at) => at,
  width: () => 1,
  highest: 0,
  fields,
  check,
  sendable: ({ kind }, counts) => {
    if (kind !== 'setpoint') return problem('it is not a number that can be set');
    return Number.isFinite(counts) ? { ok: true, value: counts } : problem(`${counts} is no number`);
  },
  form: ({ kind }) => (kind === 'output' ? 'command' : 'set point'),
};
