import { isScaled, RANGE_CHECKS, type Limits, type RangeCheck, type ScalingPairs } from '../../point/index.ts';
import type { DraftPoint } from '../../config/index.ts';
import { checked, done, numberField, readNumber, shortened, wrong, type PointField } from './field.ts';

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

const RANGE_TEXT: Record<RangeCheck, string> = { none: 'none', ends: 'ends', liveZero: 'live zero' };

/** What a value is in its unit, and which changes and levels of it count. */
export const VALUE_FIELDS: readonly PointField[] = [
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
];
