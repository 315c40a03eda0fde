import type { PointKind } from '../../../point/index.ts';

/*
 * Common data classes (IEC 61850-7-3, clause 7; from memory): what a data object of each is as a point, and which
 * attribute is its value.
 */

export interface DataClass {
  name: string;
  meaning: string;
  /** As a point; null: it has none of its own. */
  kind: PointKind | null;
  /** Attributes from the data object to the value. */
  value: readonly string[];
  constraint: 'ST' | 'MX' | 'SP' | 'DC' | null;
  /** Whether it may be operated. */
  isControlled: boolean;
}

const of = (
  name: string,
  meaning: string,
  kind: PointKind | null,
  value: string,
  constraint: DataClass['constraint'],
  isControlled = false,
): DataClass => ({ name, meaning, kind, value: value === '' ? [] : value.split('.'), constraint, isControlled });

export const DATA_CLASSES: readonly DataClass[] = [
  of('SPS', 'single point status', 'binary', 'stVal', 'ST'),
  of('DPS', 'double point status', 'doubleBit', 'stVal', 'ST'),
  of('INS', 'whole number', 'analog', 'stVal', 'ST'),
  of('ENS', 'one of several states', 'analog', 'stVal', 'ST'),
  of('ACT', 'activation of protection', 'binary', 'general', 'ST'),
  of('ACD', 'activation with direction', 'binary', 'general', 'ST'),
  of('SEC', 'violations of security', 'counter', 'cnt', 'ST'),
  of('BCR', 'counter', 'counter', 'actVal', 'ST'),
  of('HST', 'histogram', null, '', null),
  of('VSS', 'text', 'text', 'stVal', 'ST'),
  of('MV', 'measured value', 'analog', 'mag.f', 'MX'),
  of('CMV', 'complex measured value', 'analog', 'cVal.mag.f', 'MX'),
  of('SAV', 'sampled value', 'analog', 'instMag.i', 'MX'),
  of('WYE', 'three phases to earth', null, '', null),
  of('DEL', 'three phases to each other', null, '', null),
  of('SEQ', 'sequences', null, '', null),
  of('HMV', 'harmonics', null, '', null),
  of('HWYE', 'harmonics of three phases', null, '', null),
  of('SPC', 'single point, controlled', 'binary', 'stVal', 'ST', true),
  of('DPC', 'double point, controlled', 'doubleBit', 'stVal', 'ST', true),
  of('INC', 'whole number, controlled', 'analog', 'stVal', 'ST', true),
  of('ENC', 'one of several states, controlled', 'analog', 'stVal', 'ST', true),
  of('BSC', 'steps, controlled', 'analog', 'valWTr.posVal', 'ST', true),
  of('ISC', 'whole number by steps, controlled', 'analog', 'valWTr.posVal', 'ST', true),
  of('APC', 'measured value, controlled', 'analog', 'mxVal.f', 'MX', true),
  of('BAC', 'measured value by steps, controlled', 'analog', 'mxVal.f', 'MX', true),
  of('SPG', 'single point, setting', 'binary', 'setVal', 'SP'),
  of('ING', 'whole number, setting', 'analog', 'setVal', 'SP'),
  of('ENG', 'one of several states, setting', 'analog', 'setVal', 'SP'),
  of('ASG', 'analog value, setting', 'analog', 'setMag.f', 'SP'),
  of('VSG', 'text, setting', 'text', 'setVal', 'SP'),
  of('DPL', 'name plate of a device', 'text', 'vendor', 'DC'),
  of('LPL', 'name plate of a node', 'text', 'vendor', 'DC'),
];
const BY_NAME = new Map(DATA_CLASSES.map((one) => [one.name, one]));
export const dataClass = (name: string): DataClass | null => BY_NAME.get(name) ?? null;

/** Units, by the number that stands in `units.SIUnit` (IEC 61850-7-3, annex A; from memory). */
const UNITS: Record<number, string> = {
  1: '',
  2: 'm',
  3: 'kg',
  4: 's',
  5: 'A',
  6: 'K',
  7: 'mol',
  8: 'cd',
  9: '°',
  10: 'rad',
  11: 'sr',
  21: 'Gy',
  22: 'Bq',
  23: '°C',
  24: 'Sv',
  25: 'F',
  26: 'C',
  27: 'S',
  28: 'H',
  29: 'V',
  30: 'Ω',
  31: 'J',
  32: 'N',
  33: 'Hz',
  34: 'lx',
  35: 'lm',
  36: 'Wb',
  37: 'T',
  38: 'W',
  39: 'Pa',
  41: 'm²',
  42: 'm³',
  43: 'm/s',
  44: 'm/s²',
  45: 'm³/s',
  61: 'VA',
  62: 'W',
  63: 'var',
  64: 'φ',
  65: 'cos φ',
  66: 'Vs',
  67: 'V²',
  68: 'As',
  69: 'A²',
  70: 'A²t',
  71: 'VAh',
  72: 'Wh',
  73: 'varh',
  74: 'V/Hz',
  75: 'Hz/s',
};
/** Multipliers are powers of ten (annex A). */
const MULTIPLIERS: Record<number, string> = {
  [-24]: 'y',
  [-21]: 'z',
  [-18]: 'a',
  [-15]: 'f',
  [-12]: 'p',
  [-9]: 'n',
  [-6]: 'µ',
  [-3]: 'm',
  [-2]: 'c',
  [-1]: 'd',
  0: '',
  1: 'da',
  2: 'h',
  3: 'k',
  6: 'M',
  9: 'G',
  12: 'T',
  15: 'P',
  18: 'E',
  21: 'Z',
  24: 'Y',
};
/** `kV` of 29 and 3; a unit that is not known is its number. */
export function unitWords(unit: number, multiplier: number): string {
  const symbol = UNITS[unit] ?? `unit ${unit}`;
  const prefix = MULTIPLIERS[multiplier];
  if (prefix !== undefined) return symbol === '' && prefix !== '' ? `10^${multiplier}` : `${prefix}${symbol}`;
  return `10^${multiplier} ${symbol}`.trim();
}
