import type { Instant } from '../../session/index.ts';
import type { AccessResult, Data, TypeOf } from '../mms/wire/data.ts';

/*
 * Points of TASE.2 (IEC 60870-6-503, clause 8, and -802, clause 6: indication and control points; from memory):
 *
 *   State              bit string 8: state 2, then the flags below from their third bit on
 *   StateSupplemental  bit string 8: state 2, tag 2, expected state 2
 *   Discrete, Real     whole number of 32 bits, floating point number of 32 bits
 *
 *   plain              the value alone
 *   Q                  { Value, Flags }
 *   QTimeTag           { Value, TimeStamp, Flags }           seconds since 1970
 *   QTimeTagExtended   { Value, TimeStamp { Seconds, Milliseconds }, Flags }
 *   Extended           { Value, TimeStamp, Flags, COV }      how often it has changed
 *
 *   Flags  bit string 8: 2 3 validity, 4 5 current source, 6 not its normal value, 7 time stamp not valid
 *   Command 16 bits, set point real or discrete: what is operated
 */

export const BASES = ['State', 'StateSupplemental', 'Discrete', 'Real'] as const;
export type Base = (typeof BASES)[number];
export const FORMS = ['', 'Q', 'QTimeTag', 'QTimeTagExtended', 'Extended'] as const;
export type Form = (typeof FORMS)[number];
export type IndicationType = `${Base}${Form}`;
export const INDICATIONS = BASES.flatMap((base) => FORMS.map((form) => `${base}${form}` as IndicationType));
export const CONTROLS = ['Command', 'SetpointReal', 'SetpointDiscrete'] as const;
export type ControlType = (typeof CONTROLS)[number];
export type PointType = IndicationType | ControlType;

export const isControl = (type: PointType): type is ControlType => CONTROLS.some((one) => one === type);
/** The value's type and what is beside it: the longest base that it begins with. */
export function partsOf(type: IndicationType): { base: Base; form: Form } {
  const base = type.startsWith('StateSupplemental') ? 'StateSupplemental' : BASES.find((one) => type.startsWith(one));
  return { base: base ?? 'Real', form: type.slice(base?.length ?? 0) as Form };
}

const BITS: TypeOf = { type: 'bits', size: 8 };
const SECONDS: TypeOf = { type: 'integer', bits: 32 };
const VALUES: Record<Base, TypeOf> = {
  State: BITS,
  StateSupplemental: BITS,
  Discrete: { type: 'integer', bits: 32 },
  Real: { type: 'float', width: 32, exponent: 8 },
};
const structure = (...components: readonly (readonly [string, TypeOf])[]): TypeOf => ({
  type: 'structure',
  components: components.map(([name, of]) => ({ name, of })),
});

export function typeOf(type: PointType): TypeOf {
  if (type === 'Command') return { type: 'integer', bits: 16 };
  if (type === 'SetpointReal') return VALUES.Real;
  if (type === 'SetpointDiscrete') return VALUES.Discrete;
  const { base, form } = partsOf(type);
  const value = ['Value', VALUES[base]] as const;
  const flags = ['Flags', BITS] as const;
  switch (form) {
    case '':
      return VALUES[base];
    case 'Q':
      return structure(value, flags);
    case 'QTimeTag':
      return structure(value, ['TimeStamp', SECONDS], flags);
    case 'QTimeTagExtended':
      return structure(
        value,
        ['TimeStamp', structure(['Seconds', SECONDS], ['Milliseconds', { type: 'integer', bits: 16 }])],
        flags,
      );
    case 'Extended':
      return structure(value, ['TimeStamp', SECONDS], flags, ['COV', { type: 'unsigned', bits: 16 }]);
    default:
      return form satisfies never;
  }
}

/** The type that a structure is; null: none of these. */
export function pointTypeOf(of: TypeOf): PointType | null {
  const same = (type: PointType): boolean => shapeOf(typeOf(type)) === shapeOf(of);
  return INDICATIONS.find(same) ?? (same('Command') ? 'Command' : null);
}
const shapeOf = (of: TypeOf): string => {
  switch (of.type) {
    case 'structure':
      return `{${of.components.map((one) => shapeOf(one.of)).join()}}`;
    case 'integer':
    case 'unsigned':
      return `${of.type}${of.bits}`;
    case 'bits':
      return `bits${Math.abs(of.size)}`;
    default:
      return of.type;
  }
};

/** A value with what stands beside it. */
export interface Indication {
  /** Of a state: 0 between, 1 off, 2 on, 3 invalid. */
  value: number;
  /** Eight bits; null: the point has none. */
  flags: readonly boolean[] | null;
  time: Instant | null;
  /** How often it has changed; null: not said. */
  changes: number | null;
}

const bit = (on: boolean): boolean => on;
const stateBits = (value: number): boolean[] => [bit((value & 2) !== 0), bit((value & 1) !== 0)];
const NO_FLAGS = new Array<boolean>(8).fill(false);
const MOST_INT32 = 0x7fff_ffff;
const whole = (value: number): number => Math.max(-MOST_INT32 - 1, Math.min(MOST_INT32, Math.round(value)));

export function encode(type: IndicationType, { value, flags, time, changes }: Indication): Data {
  const { base, form } = partsOf(type);
  const own = flags ?? NO_FLAGS;
  const plain: Data =
    base === 'Real'
      ? { type: 'float', value: Math.fround(value), width: 32 }
      : base === 'Discrete'
        ? { type: 'integer', value: whole(value) }
        : base === 'State'
          ? { type: 'bits', bits: [...stateBits(value), ...own.slice(2)] }
          : { type: 'bits', bits: [...stateBits(value), false, false, ...stateBits(value), false, false] };
  const seconds = (at: Instant): Data => ({ type: 'integer', value: whole(Math.floor(at / 1000)) });
  const bits: Data = { type: 'bits', bits: [false, false, ...own.slice(2)] };
  const at = time ?? 0;
  switch (form) {
    case '':
      return plain;
    case 'Q':
      return { type: 'structure', items: [plain, bits] };
    case 'QTimeTag':
      return { type: 'structure', items: [plain, seconds(at), bits] };
    case 'QTimeTagExtended': {
      const milliseconds: Data = { type: 'integer', value: Math.floor(at) % 1000 };
      return { type: 'structure', items: [plain, { type: 'structure', items: [seconds(at), milliseconds] }, bits] };
    }
    case 'Extended':
      return {
        type: 'structure',
        items: [plain, seconds(at), bits, { type: 'unsigned', value: (changes ?? 0) & 0xffff }],
      };
    default:
      return form satisfies never;
  }
}

/**
 * What a value says; what stands beside it is told apart by what it is. `agreed`: what the value is by the agreement; a state
 * and a supplemental one are the same octet and mean different things. Null: it is none, or not of that type.
 */
export function decode(data: AccessResult, agreed: Base | 'auto' = 'auto'): Indication | null {
  if (data.type === 'structure') {
    const [first, ...beside] = data.items;
    const value = first === undefined ? null : decode(first, agreed);
    if (value === null) return null;
    const found = { ...value };
    for (const part of beside) {
      if (part.type === 'bits') found.flags = eight(part.bits);
      else if (part.type === 'integer') found.time = Number(part.value) * 1000;
      else if (part.type === 'unsigned') found.changes = Number(part.value);
      else if (part.type === 'structure') found.time = extendedTime(part.items);
    }
    return found;
  }
  const isState = agreed === 'State' || agreed === 'StateSupplemental';
  if (agreed !== 'auto' && isState !== (data.type === 'bits')) return null;
  switch (data.type) {
    case 'float':
    case 'integer':
    case 'unsigned':
      return { value: Number(data.value), flags: null, time: null, changes: null };
    case 'bits': {
      const value = (data.bits[0] ? 2 : 0) + (data.bits[1] ? 1 : 0);
      // A supplemental one has its tag and what is expected where others have their flags.
      const flags = agreed === 'StateSupplemental' ? null : eight(data.bits);
      return { value, flags, time: null, changes: null };
    }
    case 'boolean':
      return { value: data.value ? 2 : 1, flags: null, time: null, changes: null };
    default:
      return null;
  }
}

/** The state is in the first two of them: of the flags these mean nothing. */
const eight = (bits: readonly boolean[]): boolean[] =>
  Array.from({ length: 8 }, (_, at) => at >= 2 && (bits[at] ?? false));

function extendedTime(items: readonly Data[]): Instant | null {
  const [seconds, milliseconds] = items.map((one) =>
    one.type === 'integer' || one.type === 'unsigned' ? Number(one.value) : NaN,
  );
  const time = seconds * 1000 + (milliseconds ?? 0);
  return Number.isFinite(time) ? time : null;
}
