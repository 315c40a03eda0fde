import type { z } from 'zod';
import { draftPointSchema, NEW_SETTING, type DraftPoint } from '../config/index.ts';
import { addressOf, definitionOf, PROTOCOLS, readAddress, type ProtocolCode } from '../protocols/definitions.ts';
import {
  isScaled,
  kindOf,
  KIND_WORDS,
  OPERATION_WORDS,
  operationOf,
  RANGE_CHECKS,
  stateAfter,
  type Limits,
  type Operation,
  type PointKind,
  type RangeCheck,
  type ScalingPairs,
} from '../point/index.ts';
import type { Result } from '../session/index.ts';

/**
 * The fields of a point as text: one table for the grid, for pasting, for files and for sheets. `text` and `set` are
 * each other's inverse: what one writes the other reads.
 */
export interface PointField {
  key: string;
  title: string;
  /** Unit and limit, for people. */
  help: string;
  numeric?: boolean;
  /** Other headings that mean this field (common practice). */
  aliases: readonly string[];
  /** For a cell that is chosen rather than typed. */
  choices?: readonly string[];
  /** The protocol whose points alone have it; absent: all have. */
  protocol?: ProtocolCode;
  text: (point: DraftPoint) => string;
  set: (point: DraftPoint, text: string) => Result<DraftPoint, string>;
}

const done = (value: DraftPoint): Result<DraftPoint, string> => ({ ok: true, value });
const wrong = (problem: string): Result<DraftPoint, string> => ({ ok: false, problem });

/** A number as people and spreadsheets write it, or why it is none. */
export function readNumber(text: string): Result<number, string> {
  const trimmed = text.trim();
  if (/^[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d{1,3})?$/.test(trimmed)) {
    const value = Number(trimmed);
    if (Number.isFinite(value)) return { ok: true, value };
  }
  if (trimmed.startsWith('=')) return { ok: false, problem: `"${shortened(trimmed)}" is a formula: give its value` };
  if (/^[-+]?\d{1,3}(,\d+)+$/.test(trimmed))
    return { ok: false, problem: `"${trimmed}" has a comma: write ${trimmed.replace(',', '.')}` };
  return { ok: false, problem: `"${shortened(trimmed)}" is not a number` };
}

export const shortened = (text: string): string => (text.length > 40 ? `${text.slice(0, 39)}…` : text);

/** Sets one property after checking the whole point against its schema. */
function checked(point: DraftPoint, change: Partial<DraftPoint>): Result<DraftPoint, string> {
  const next = { ...point, ...change };
  const shape: Record<string, z.ZodType | undefined> = draftPointSchema.shape;
  for (const [key, value] of Object.entries(change)) {
    const parsed = shape[key]?.safeParse(value);
    if (parsed === undefined) continue;
    if (!parsed.success) return wrong(parsed.error.issues[0].message);
    (next as Record<string, unknown>)[key] = parsed.data;
  }
  return done(next);
}

const formula = (text: string): string | null =>
  /^[=@]/.test(text.trim())
    ? `"${shortened(text.trim())}" looks like a formula: a text does not begin with = or @`
    : null;

const textField = (
  key: 'name' | 'description' | 'unit',
  title: string,
  help: string,
  aliases: readonly string[],
): PointField => ({
  key,
  title,
  help,
  aliases,
  text: (point) => point[key],
  set: (point, text) => {
    const problem = formula(text);
    return problem === null ? checked(point, { [key]: text.trim() }) : wrong(problem);
  },
});

const numberField = (
  key: string,
  title: string,
  help: string,
  aliases: readonly string[],
  get: (point: DraftPoint) => number | null,
  put: (point: DraftPoint, value: number | null) => Partial<DraftPoint>,
): PointField => ({
  key,
  title,
  help,
  aliases,
  numeric: true,
  text: (point) => {
    const value = get(point);
    return value === null ? '' : String(value);
  },
  set: (point, text) => {
    if (text.trim() === '') return checked(point, put(point, null));
    const read = readNumber(text);
    return read.ok ? checked(point, put(point, read.value)) : wrong(read.problem);
  },
});

const EMPTY_PAIRS: ScalingPairs = { rawLow: 0, rawHigh: 1, low: 0, high: 1 };
const pairField = (key: keyof ScalingPairs, title: string, aliases: readonly string[]): PointField =>
  numberField(
    key,
    title,
    'empty: scaled by gain and offset',
    aliases,
    (p) => p.pairs?.[key] ?? null,
    (p, value) => ({ pairs: value === null ? null : { ...(p.pairs ?? EMPTY_PAIRS), [key]: value } }),
  );

const NO_LIMITS: Limits = { lowLow: null, low: null, high: null, highHigh: null, hysteresis: 0, delayMs: 0 };
const limitsWith = (point: DraftPoint, change: Partial<Limits>): Partial<DraftPoint> => {
  const limits = { ...(point.limits ?? NO_LIMITS), ...change };
  const used = [limits.lowLow, limits.low, limits.high, limits.highHigh].some((level) => level !== null);
  return { limits: used || limits.hysteresis > 0 || limits.delayMs > 0 ? limits : null };
};
const limitField = (
  key: 'lowLow' | 'low' | 'high' | 'highHigh',
  title: string,
  aliases: readonly string[],
): PointField =>
  numberField(
    `limit.${key}`,
    title,
    "in the point's unit; empty: not watched",
    aliases,
    (p) => p.limits?.[key] ?? null,
    (p, value) => limitsWith(p, { [key]: value }),
  );

const settingField = (key: string, title: string, limit: 'low' | 'high', aliases: readonly string[]): PointField =>
  numberField(
    key,
    title,
    'of a setpoint, in its unit; empty: what its form holds',
    aliases,
    (p) => p.setting?.[limit] ?? null,
    (p, value) => (value === null && p.setting === null ? {} : settingWith(p, { [limit]: value })),
  );

/** Another point of the list as people name it: `BI 0`, `bi0`, `AI 7`; null: no address. */
const readReference = (text: string, { at }: DraftPoint): string | null => {
  const read = readAddress(at.protocol, text);
  return read === null ? null : addressOf(read);
};

const NEW_CONTROL = {
  operations: ['latchOn', 'latchOff'] as Operation[],
  onMs: 500,
  offMs: 250,
  feedback: null,
  feedbackWithinMs: 10_000,
};
const controlWith = (point: DraftPoint, change: Partial<NonNullable<DraftPoint['control']>>): Partial<DraftPoint> => ({
  control: { ...(point.control ?? NEW_CONTROL), ...change },
});

const settingWith = (point: DraftPoint, change: Partial<NonNullable<DraftPoint['setting']>>): Partial<DraftPoint> => ({
  setting: { ...(point.setting ?? NEW_SETTING), ...change },
});

/** The analog that follows a setpoint: `AI 2`. */
function readFollower(text: string, point: DraftPoint): Result<Partial<DraftPoint>, string> {
  if (text.trim() === '') return { ok: true, value: point.setting ? settingWith(point, { feedback: null }) : {} };
  const feedback = readReference(text, point);
  return feedback === null
    ? { ok: false, problem: `"${shortened(text)}" is not an address such as AI 2` }
    : { ok: true, value: settingWith(point, { feedback }) };
}

/** `BI 0 (trip 0, close 1)`; what is left out goes by the words of the operations. */
function readFeedback(text: string, point: DraftPoint): Result<Partial<DraftPoint>, string> {
  if (point.kind === 'setpoint') return readFollower(text, point);
  if (text.trim() === '') return { ok: true, value: point.control ? controlWith(point, { feedback: null }) : {} };
  const match = /^([^(]+?)\s*(?:\(([^)]*)\))?$/.exec(text.trim());
  const reference = match ? readReference(match[1], point) : null;
  if (!match || reference === null)
    return { ok: false, problem: `"${shortened(text)}" is not an address such as BI 0 (trip 0, close 1)` };
  const expect: Partial<Record<Operation, number>> = {};
  for (const one of point.control?.operations ?? NEW_CONTROL.operations) {
    const value = stateAfter(one);
    if (value !== null) expect[one] = value;
  }
  for (const part of (match[2] ?? '').split(',').filter((one) => one.trim() !== '')) {
    const [, words, value] = /^\s*(.+?)\s+(\d)\s*$/.exec(part) ?? [];
    const operation = words === undefined ? undefined : operationOf(words);
    if (operation === undefined) return { ok: false, problem: `"${part.trim()}" is not an operation and its state` };
    expect[operation] = Number(value);
  }
  return { ok: true, value: controlWith(point, { feedback: { point: reference, expect } }) };
}

function feedbackText({ control, setting }: DraftPoint): string {
  if (setting?.feedback) return setting.feedback;
  const feedback = control?.feedback;
  if (!feedback) return '';
  const expected = Object.entries(feedback.expect).map(
    ([operation, value]) => `${OPERATION_WORDS[operation as Operation]} ${value}`,
  );
  return `${feedback.point}${expected.length > 0 ? ` (${expected.join(', ')})` : ''}`;
}

const RANGE_TEXT: Record<RangeCheck, string> = { none: 'none', ends: 'ends', liveZero: 'live zero' };

function readHistory(text: string, point: DraftPoint): Result<DraftPoint['history'], string> {
  const words = text.trim().toLowerCase();
  if (words === '' || words === 'every') return { ok: true, value: { mode: 'every' } };
  if (words === 'deadband') return { ok: true, value: { mode: 'deadband' } };
  const interval = /^(?:each |every )?(\d+(?:\.\d+)?)\s*(ms|s|min|h)$/.exec(words);
  if (interval) {
    const unit = { ms: 1, s: 1000, min: 60_000, h: 3_600_000 }[interval[2] as 'ms' | 's' | 'min' | 'h'];
    return { ok: true, value: { mode: 'interval', everyMs: Math.round(Number(interval[1]) * unit) } };
  }
  const trigger = /^(?:on|when)\s+(.+)$/.exec(words);
  const reference = trigger ? readReference(trigger[1], point) : null;
  if (reference !== null) return { ok: true, value: { mode: 'trigger', point: reference } };
  return { ok: false, problem: `"${shortened(text)}" is not every, deadband, an interval such as 10 s, or on BI 3` };
}

function historyText({ history }: DraftPoint): string {
  switch (history.mode) {
    case 'every':
      return 'every';
    case 'deadband':
      return 'deadband';
    case 'interval':
      return history.everyMs % 1000 === 0 ? `${history.everyMs / 1000} s` : `${history.everyMs} ms`;
    case 'trigger':
      return `on ${history.point}`;
    default:
      return history satisfies never;
  }
}

const YES = /^(yes|y|true|1|in|in service|on)$/i;
const NO = /^(no|n|false|0|out|out of service|off)$/i;

const CELLS = PROTOCOLS.map((protocol) => definitionOf(protocol).points);

/** What only the points of one protocol have. A cell of others is empty, and stays so. */
const ownFields = (protocol: ProtocolCode): PointField[] =>
  definitionOf(protocol).points.fields.map(({ key, title, help, aliases, choices, numeric, isSetting, text, set }) => ({
    key,
    title,
    help,
    aliases,
    protocol,
    ...(choices ? { choices } : {}),
    ...(numeric ? { numeric } : {}),
    text: (point) => (point.at.protocol !== protocol || (isSetting && point.setting === null) ? '' : text(point)),
    set: (point, given) => {
      const { name } = definitionOf(point.at.protocol).words;
      if (point.at.protocol !== protocol)
        return given.trim() === '' ? done(point) : wrong(`a ${name} point has no ${title.toLowerCase()}`);
      if (isSetting && given.trim() === '') return done({ ...point, setting: null });
      const at = set(point, given);
      if (!at.ok) return wrong(at.problem);
      return checked({ ...point, at: at.value }, isSetting ? settingWith(point, {}) : {});
    },
  }));

export const POINT_FIELDS: readonly PointField[] = [
  {
    key: 'kind',
    title: 'Kind',
    help: Object.values(KIND_WORDS)
      .map(({ short, one }) => `${short} ${one}`)
      .join(', '),
    aliases: ['type', 'point type', 'object', 'class of point'],
    choices: Object.values(KIND_WORDS).map(({ short }) => short),
    text: ({ kind }) => KIND_WORDS[kind].short,
    set: (point, text) => {
      const kind = kindOf(text);
      return kind ? done({ ...point, kind }) : wrong(`"${shortened(text)}" is not a kind: ${KINDS}`);
    },
  },
  {
    key: 'index',
    title: 'Address',
    help: CELLS.map(({ cell: { help } }) => help).join('; '),
    numeric: true,
    aliases: ['point index', 'point', 'number', 'point number', 'no', ...CELLS.flatMap(({ cell }) => cell.aliases)],
    text: (point) => definitionOf(point.at.protocol).points.cell.text(point),
    set: (point, text) => {
      const set = definitionOf(point.at.protocol).points.cell.set(point, text);
      return set.ok ? done({ ...point, ...set.value }) : wrong(set.problem);
    },
  },
  textField('name', 'Name', 'at most 80 characters', ['point name', 'label', 'tag', 'signal', 'text']),
  textField('description', 'Description', 'at most 400 characters', ['comment', 'remark', 'note', 'long name']),
  textField('unit', 'Unit', 'at most 16 characters', ['units', 'engineering unit', 'eu', 'uom']),
  numberField(
    'gain',
    'Gain',
    'value = raw × gain + offset; not 0',
    ['scale', 'factor', 'multiplier', 'slope'],
    (p) => (p.pairs === null && isScaled(p.kind) ? p.gain : null),
    (_p, value) => (value === null ? { gain: 1 } : { gain: value, pairs: null }),
  ),
  numberField(
    'offset',
    'Offset',
    "in the point's unit",
    ['bias', 'intercept'],
    (p) => (p.pairs === null && isScaled(p.kind) ? p.offset : null),
    (_p, value) => (value === null ? { offset: 0 } : { offset: value, pairs: null }),
  ),
  pairField('rawLow', 'Raw low', ['raw min', 'raw minimum', 'min raw']),
  pairField('rawHigh', 'Raw high', ['raw max', 'raw maximum', 'max raw']),
  pairField('low', 'Low', ['eng low', 'engineering low', 'eng min', 'min', 'range low']),
  pairField('high', 'High', ['eng high', 'engineering high', 'eng max', 'max', 'range high']),
  {
    key: 'range',
    title: 'Range check',
    help: 'none, ends, or live zero (4 to 20 mA)',
    aliases: ['over range', 'range'],
    choices: RANGE_CHECKS.map((check) => RANGE_TEXT[check]),
    text: ({ range }) => RANGE_TEXT[range],
    set: (point, text) => {
      const words = text.trim().toLowerCase() || 'none';
      const range = RANGE_CHECKS.find((check) => RANGE_TEXT[check] === words || check.toLowerCase() === words);
      return range ? done({ ...point, range }) : wrong(`"${shortened(text)}" is not none, ends or live zero`);
    },
  },
  {
    key: 'deadband',
    title: 'Deadband',
    help: "in the point's unit, or such as 2 % of the span; 0: every change",
    aliases: ['dead band', 'hysteresis of reports'],
    text: ({ deadband: { value, of } }) => (value === 0 ? '' : of === 'absolute' ? String(value) : `${value} %`),
    set: (point, text) => {
      const percent = /^(.*?)\s*%$/.exec(text.trim());
      const read = readNumber((percent ? percent[1] : text).trim() || '0');
      if (!read.ok) return wrong(read.problem);
      if (percent && read.value > 100) return wrong(`${read.value} % is more than 100 % of the span`);
      return checked(point, { deadband: { value: read.value, of: percent ? 'percentOfSpan' : 'absolute' } });
    },
  },
  limitField('lowLow', 'Low-low', ['ll', 'low low', 'lolo']),
  limitField('low', 'Low limit', ['l', 'low alarm', 'lo']),
  limitField('high', 'High limit', ['h', 'high alarm', 'hi']),
  limitField('highHigh', 'High-high', ['hh', 'high high', 'hihi']),
  numberField(
    'limit.hysteresis',
    'Hysteresis',
    "in the point's unit",
    ['limit hysteresis'],
    (p) => p.limits?.hysteresis ?? null,
    (p, value) => limitsWith(p, { hysteresis: value ?? 0 }),
  ),
  numberField(
    'limit.delayMs',
    'Delay',
    'ms beyond a limit before it counts, 0 to 3 600 000',
    ['limit delay', 'delay ms'],
    (p) => p.limits?.delayMs ?? null,
    (p, value) => limitsWith(p, { delayMs: value ?? 0 }),
  ),
  {
    key: 'states',
    title: 'State words',
    help: 'open / closed; four for a double-bit point',
    aliases: ['states', 'state text', 'state names'],
    text: ({ states }) => states?.join(' / ') ?? '',
    set: (point, text) => {
      if (text.trim() === '') return done({ ...point, states: null });
      const problem = formula(text);
      if (problem !== null) return wrong(problem);
      const states = text.split('/').map((word) => word.trim());
      if (states.length < 2 || states.length > 4)
        return wrong(`"${shortened(text)}" is not two to four words such as open / closed`);
      return checked(point, { states });
    },
  },
  numberField(
    'normal',
    'Normal state',
    '0 to 3; empty: none',
    ['normal'],
    ({ normal }) => normal,
    (_p, value) => ({ normal: value }),
  ),
  {
    key: 'history',
    title: 'History',
    help: 'every, deadband, an interval such as 10 s, or on BI 3 (when it rises)',
    aliases: ['archive', 'log'],
    text: historyText,
    set: (point, text) => {
      const read = readHistory(text, point);
      return read.ok ? checked(point, { history: read.value }) : wrong(read.problem);
    },
  },
  {
    key: 'operations',
    title: 'Operations',
    help: `of a control: ${Object.values(OPERATION_WORDS).join(', ')}, with / between`,
    aliases: ['control', 'commands'],
    text: ({ control }) => control?.operations.map((one) => OPERATION_WORDS[one]).join(' / ') ?? '',
    set: (point, text) => {
      if (text.trim() === '') return done({ ...point, control: null });
      const operations: Operation[] = [];
      for (const part of text.split('/')) {
        const operation = operationOf(part);
        if (operation === undefined) return wrong(`"${shortened(part.trim())}" is not an operation`);
        operations.push(operation);
      }
      return checked(point, controlWith(point, { operations }));
    },
  },
  numberField(
    'onMs',
    'On time',
    'ms, 0 to 600 000',
    ['on', 'on time ms', 'pulse on'],
    (p) => p.control?.onMs ?? null,
    (p, value) => (value === null && p.control === null ? {} : controlWith(p, { onMs: value ?? 500 })),
  ),
  numberField(
    'offMs',
    'Off time',
    'ms, 0 to 600 000',
    ['off', 'off time ms', 'pulse off'],
    (p) => p.control?.offMs ?? null,
    (p, value) => (value === null && p.control === null ? {} : controlWith(p, { offMs: value ?? 250 })),
  ),
  {
    key: 'feedback',
    title: 'Feedback',
    help: 'point that shows that a control happened: BI 0 (trip 0, close 1); of a setpoint, the one that follows: AI 2',
    aliases: ['feedback point', 'return'],
    text: feedbackText,
    set: (point, text) => {
      const read = readFeedback(text, point);
      return read.ok ? checked(point, read.value) : wrong(read.problem);
    },
  },
  ...PROTOCOLS.flatMap(ownFields),
  settingField('setLow', 'Lowest to set', 'low', ['set min', 'setpoint low', 'command low']),
  settingField('setHigh', 'Highest to set', 'high', ['set max', 'setpoint high', 'command high']),
  numberField(
    'tolerance',
    'Tolerance',
    'of what follows a setpoint, in its unit; half a count always counts as there',
    ['feedback tolerance'],
    (p) => p.setting?.tolerance ?? null,
    (p, value) => (value === null && p.setting === null ? {} : settingWith(p, { tolerance: value ?? 0 })),
  ),
  {
    key: 'inService',
    title: 'In service',
    help: 'yes or no',
    aliases: ['enabled', 'active'],
    choices: ['yes', 'no'],
    text: ({ inService }) => (inService ? 'yes' : 'no'),
    set: (point, text) => {
      if (text.trim() === '' || YES.test(text.trim())) return done({ ...point, inService: true });
      return NO.test(text.trim())
        ? done({ ...point, inService: false })
        : wrong(`"${shortened(text)}" is neither yes nor no`);
    },
  },
];

const KINDS = Object.values(KIND_WORDS)
  .map(({ short }) => short)
  .join(', ');

const FIELD_BY_KEY = new Map(POINT_FIELDS.map((field) => [field.key, field]));
export const pointField = (key: string): PointField => {
  const field = FIELD_BY_KEY.get(key);
  if (field === undefined) throw new Error(`there is no field ${key}`);
  return field;
};

const BY_HEADING = new Map(
  POINT_FIELDS.flatMap(({ key, title, aliases }) =>
    [title, key, ...aliases].map((heading) => [heading.toLowerCase(), key] as const),
  ),
);
/** Which field a column heading means; undefined when none is known. A unit in brackets does not matter. */
export function fieldOfHeading(heading: string): string | undefined {
  const words = heading
    .trim()
    .toLowerCase()
    .replace(/\s*[([].*[)\]]\s*$/, '')
    .replace(/[_.]+/g, ' ');
  return BY_HEADING.get(words) ?? (DEVICE_HEADINGS.includes(words) ? 'device' : undefined);
}
const DEVICE_HEADINGS = ['device', 'device code', 'ied', 'rtu', 'relay'];

const { at: _at, ...BLANK } = draftPointSchema.parse({
  kind: 'binary',
  at: definitionOf(PROTOCOLS[0]).points.blank('binary'),
  name: '-',
});

/** A point with nothing but its kind and its place: the number in the series of its kind. The name is not checked here. */
export function newPoint(protocol: ProtocolCode, kind: PointKind, number: number | null, name: string): DraftPoint {
  const { blank, history, withNumber } = definitionOf(protocol).points;
  return {
    ...BLANK,
    kind,
    at: withNumber(blank(kind), number),
    history: { mode: history },
    name,
    control: kind === 'output' ? NEW_CONTROL : null,
    setting: kind === 'setpoint' ? NEW_SETTING : null,
  };
}
