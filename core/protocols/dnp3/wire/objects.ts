import { ByteReader, ByteWriter } from '../../../bytes/index.ts';
import type { PointKind } from '../../../point/index.ts';

/** How the value of an object is laid out (IEEE 1815, annex A). Flags come first, the time last. */
type ValueLayout =
  | 'packedBit'
  | 'packedBits2'
  | 'flagsBit7'
  | 'flagsBits67'
  | 'int16'
  | 'int32'
  | 'uint16'
  | 'uint32'
  | 'float32'
  | 'float64';
type TimeLayout = 'none' | 'absolute' | 'relative';

/** An object that carries a measured value. */
export interface MeasurementType {
  what: 'measurement';
  group: number;
  variation: number;
  kind: PointKind;
  use: 'static' | 'event';
  flags: boolean;
  value: ValueLayout;
  time: TimeLayout;
  /** Octets of one object; 0 for packed bits. */
  octets: number;
  /** Bits of one object that is packed with its neighbours; 0: octets of its own. */
  packedBits: 0 | 1 | 2;
}

/** A command that somebody gave the device, reported as an event. Bit 7 of its first octet is a binary's value. */
export interface CommandType {
  what: 'command';
  group: number;
  variation: number;
  kind: PointKind;
  value: 'commandBit' | 'int16' | 'int32' | 'float32' | 'float64';
  time: TimeLayout;
  octets: number;
  packedBits: 0;
}

/** Everything else that this project understands. */
export interface OtherType {
  what:
    | 'class'
    | 'control'
    | 'setpoint'
    | 'deadband'
    | 'time'
    | 'commonTime'
    | 'delay'
    | 'indications'
    | 'attribute'
    /** Not kept here; known by its size, so that what stands behind it is read. */
    | 'passedOver';
  group: number;
  variation: number;
  /** Octets of one object; 0 for packed bits, null for a class, which has none, and an attribute, which says itself. */
  octets: number | null;
  packedBits: 0 | 1;
}

/** An octet string: its variation is its length (annex A.46). */
export interface TextType {
  what: 'text';
  group: number;
  variation: number;
  use: 'static' | 'event';
  octets: number;
  packedBits: 0;
}

export type ObjectType = MeasurementType | CommandType | TextType | OtherType;

const VALUE_OCTETS: Record<ValueLayout, number> = {
  packedBit: 0,
  packedBits2: 0,
  flagsBit7: 0,
  flagsBits67: 0,
  int16: 2,
  uint16: 2,
  int32: 4,
  uint32: 4,
  float32: 4,
  float64: 8,
};
const TIME_OCTETS: Record<TimeLayout, number> = { none: 0, absolute: 6, relative: 2 };

function measurement(
  group: number,
  variation: number,
  kind: PointKind,
  use: 'static' | 'event',
  flags: boolean,
  value: ValueLayout,
  time: TimeLayout = 'none',
): MeasurementType {
  const octets = (flags ? 1 : 0) + VALUE_OCTETS[value] + TIME_OCTETS[time];
  const packedBits = value === 'packedBit' ? 1 : value === 'packedBits2' ? 2 : 0;
  return { what: 'measurement', group, variation, kind, use, flags, value, time, octets, packedBits };
}

const other = (what: OtherType['what'], group: number, variation: number, octets: number | null): OtherType => ({
  what,
  group,
  variation,
  octets,
  packedBits: what === 'indications' ? 1 : 0,
});

function command(
  group: number,
  variation: number,
  kind: PointKind,
  value: CommandType['value'],
  time: TimeLayout = 'none',
): CommandType {
  const octets = 1 + (value === 'commandBit' ? 0 : VALUE_OCTETS[value]) + TIME_OCTETS[time];
  return { what: 'command', group, variation, kind, value, time, octets, packedBits: 0 };
}

/** Groups of octet strings: present values and events. */
export const TEXT_GROUP = { static: 110, event: 111 } as const;

/** The object library (IEEE 1815, annex A), as far as it is implemented. */
export const OBJECT_TYPES: readonly ObjectType[] = [
  ...Array.from({ length: 60 }, (_, i) => other('attribute', 0, 196 + i, null)),
  measurement(1, 1, 'binary', 'static', false, 'packedBit'),
  measurement(1, 2, 'binary', 'static', true, 'flagsBit7'),
  measurement(2, 1, 'binary', 'event', true, 'flagsBit7'),
  measurement(2, 2, 'binary', 'event', true, 'flagsBit7', 'absolute'),
  measurement(2, 3, 'binary', 'event', true, 'flagsBit7', 'relative'),
  measurement(3, 1, 'doubleBit', 'static', false, 'packedBits2'),
  measurement(3, 2, 'doubleBit', 'static', true, 'flagsBits67'),
  measurement(4, 1, 'doubleBit', 'event', true, 'flagsBits67'),
  measurement(4, 2, 'doubleBit', 'event', true, 'flagsBits67', 'absolute'),
  measurement(4, 3, 'doubleBit', 'event', true, 'flagsBits67', 'relative'),
  measurement(10, 1, 'output', 'static', false, 'packedBit'),
  measurement(10, 2, 'output', 'static', true, 'flagsBit7'),
  measurement(11, 1, 'output', 'event', true, 'flagsBit7'),
  measurement(11, 2, 'output', 'event', true, 'flagsBit7', 'absolute'),
  other('control', 12, 1, 11),
  command(13, 1, 'output', 'commandBit'),
  command(13, 2, 'output', 'commandBit', 'absolute'),
  measurement(20, 1, 'counter', 'static', true, 'uint32'),
  measurement(20, 2, 'counter', 'static', true, 'uint16'),
  measurement(20, 5, 'counter', 'static', false, 'uint32'),
  measurement(20, 6, 'counter', 'static', false, 'uint16'),
  measurement(21, 1, 'frozenCounter', 'static', true, 'uint32'),
  measurement(21, 2, 'frozenCounter', 'static', true, 'uint16'),
  measurement(21, 5, 'frozenCounter', 'static', true, 'uint32', 'absolute'),
  measurement(21, 6, 'frozenCounter', 'static', true, 'uint16', 'absolute'),
  measurement(21, 9, 'frozenCounter', 'static', false, 'uint32'),
  measurement(21, 10, 'frozenCounter', 'static', false, 'uint16'),
  measurement(22, 1, 'counter', 'event', true, 'uint32'),
  measurement(22, 2, 'counter', 'event', true, 'uint16'),
  measurement(22, 5, 'counter', 'event', true, 'uint32', 'absolute'),
  measurement(22, 6, 'counter', 'event', true, 'uint16', 'absolute'),
  measurement(23, 1, 'frozenCounter', 'event', true, 'uint32'),
  measurement(23, 2, 'frozenCounter', 'event', true, 'uint16'),
  measurement(23, 5, 'frozenCounter', 'event', true, 'uint32', 'absolute'),
  measurement(23, 6, 'frozenCounter', 'event', true, 'uint16', 'absolute'),
  measurement(30, 1, 'analog', 'static', true, 'int32'),
  measurement(30, 2, 'analog', 'static', true, 'int16'),
  measurement(30, 3, 'analog', 'static', false, 'int32'),
  measurement(30, 4, 'analog', 'static', false, 'int16'),
  measurement(30, 5, 'analog', 'static', true, 'float32'),
  measurement(30, 6, 'analog', 'static', true, 'float64'),
  measurement(32, 1, 'analog', 'event', true, 'int32'),
  measurement(32, 2, 'analog', 'event', true, 'int16'),
  measurement(32, 3, 'analog', 'event', true, 'int32', 'absolute'),
  measurement(32, 4, 'analog', 'event', true, 'int16', 'absolute'),
  measurement(32, 5, 'analog', 'event', true, 'float32'),
  measurement(32, 6, 'analog', 'event', true, 'float64'),
  measurement(32, 7, 'analog', 'event', true, 'float32', 'absolute'),
  measurement(32, 8, 'analog', 'event', true, 'float64', 'absolute'),
  other('deadband', 34, 1, 2),
  other('deadband', 34, 2, 4),
  other('deadband', 34, 3, 4),
  measurement(40, 1, 'setpoint', 'static', true, 'int32'),
  measurement(40, 2, 'setpoint', 'static', true, 'int16'),
  measurement(40, 3, 'setpoint', 'static', true, 'float32'),
  measurement(40, 4, 'setpoint', 'static', true, 'float64'),
  other('setpoint', 41, 1, 5),
  other('setpoint', 41, 2, 3),
  other('setpoint', 41, 3, 5),
  other('setpoint', 41, 4, 9),
  measurement(42, 1, 'setpoint', 'event', true, 'int32'),
  measurement(42, 2, 'setpoint', 'event', true, 'int16'),
  measurement(42, 3, 'setpoint', 'event', true, 'int32', 'absolute'),
  measurement(42, 4, 'setpoint', 'event', true, 'int16', 'absolute'),
  measurement(42, 5, 'setpoint', 'event', true, 'float32'),
  measurement(42, 6, 'setpoint', 'event', true, 'float64'),
  measurement(42, 7, 'setpoint', 'event', true, 'float32', 'absolute'),
  measurement(42, 8, 'setpoint', 'event', true, 'float64', 'absolute'),
  command(43, 1, 'setpoint', 'int32'),
  command(43, 2, 'setpoint', 'int16'),
  command(43, 3, 'setpoint', 'int32', 'absolute'),
  command(43, 4, 'setpoint', 'int16', 'absolute'),
  command(43, 5, 'setpoint', 'float32'),
  command(43, 6, 'setpoint', 'float64'),
  command(43, 7, 'setpoint', 'float32', 'absolute'),
  command(43, 8, 'setpoint', 'float64', 'absolute'),
  other('time', 50, 1, 6),
  other('time', 50, 3, 6),
  other('commonTime', 51, 1, 6),
  other('commonTime', 51, 2, 6),
  other('delay', 52, 1, 2),
  other('delay', 52, 2, 2),
  other('class', 60, 1, null),
  other('class', 60, 2, null),
  other('class', 60, 3, null),
  other('class', 60, 4, null),
  other('indications', 80, 1, 0),
  ...passedOver(),
];

/**
 * The objects of the standard's library that are not kept, with their octets (IEEE 1815, annex A): pattern control,
 * delta and frozen delta counters, frozen analogs, times with intervals, storage, BCD, unsigned octets, security
 * statistics.
 */
function passedOver(): OtherType[] {
  const octets: readonly (readonly [group: number, byVariation: Readonly<Record<number, number>>])[] = [
    [12, { 2: 11 }],
    [20, { 3: 5, 4: 3, 7: 4, 8: 2 }],
    [21, { 3: 5, 4: 3, 7: 11, 8: 9, 11: 4, 12: 2 }],
    [22, { 3: 5, 4: 3, 7: 11, 8: 9 }],
    [23, { 3: 5, 4: 3, 7: 11, 8: 9 }],
    [31, { 1: 5, 2: 3, 3: 11, 4: 9, 5: 4, 6: 2, 7: 5, 8: 9 }],
    [33, { 1: 5, 2: 3, 3: 11, 4: 9, 5: 5, 6: 9, 7: 11, 8: 15 }],
    [50, { 2: 10, 4: 11 }],
    [81, { 1: 3 }],
    [101, { 1: 2, 2: 4, 3: 8 }],
    [102, { 1: 1 }],
    [121, { 1: 7 }],
    [122, { 1: 7, 2: 13 }],
  ];
  return octets.flatMap(([group, sizes]) =>
    Object.entries(sizes).map(([variation, size]) => other('passedOver', group, Number(variation), size)),
  );
}

export const textType = (group: number, length: number): TextType => ({
  what: 'text',
  group,
  variation: length,
  use: group === TEXT_GROUP.static ? 'static' : 'event',
  octets: length,
  packedBits: 0,
});

const BY_KEY = new Map(OBJECT_TYPES.map((type) => [type.group * 256 + type.variation, type]));
export function objectType(group: number, variation: number): ObjectType | undefined {
  if ((group === TEXT_GROUP.static || group === TEXT_GROUP.event) && variation > 0) return textType(group, variation);
  // Virtual terminals, like octet strings, say their length by their variation (annexes A.48, A.49).
  if ((group === 112 || group === 113) && variation > 0) return other('passedOver', group, variation, variation);
  return BY_KEY.get(group * 256 + variation);
}

/** Groups beside the measured values that may be named with variation 0. */
const ALSO_ANY_VARIATION: readonly number[] = [13, 34, 43, TEXT_GROUP.static, TEXT_GROUP.event];
/** Whether a request may name the group with variation 0: "whatever you have". */
export const takesAnyVariation = (group: number): boolean =>
  MEASUREMENT_GROUPS.has(group) || ALSO_ANY_VARIATION.includes(group);

/** The groups of measured values, with what they hold. */
export const MEASUREMENT_GROUPS: ReadonlyMap<number, { kind: PointKind; use: 'static' | 'event' }> = new Map(
  OBJECT_TYPES.filter((type) => type.what === 'measurement').map((type) => [
    type.group,
    { kind: type.kind, use: type.use },
  ]),
);

/** Point flags (IEEE 1815, clause 11.6). Bits 5 to 7 mean different things for each kind. */
export const Flag = {
  online: 0x01,
  restart: 0x02,
  commLost: 0x04,
  remoteForced: 0x08,
  localForced: 0x10,
  /** Binary input and output: chatter filter. Analog: over range. Counter: rollover. */
  chatterOrOverRange: 0x20,
  /** Analog: reference error. Counter: discontinuity. */
  referenceOrDiscontinuity: 0x40,
  state: 0x80,
} as const;

export interface MeasuredValue {
  value: number;
  /** Flags octet without the state bit of binaries. */
  flags: number;
  /** Milliseconds since 1970 UTC; null when the object has none. */
  time: number | null;
}

/**
 * Reads one object. `bit` selects the bit of packed objects; `commonTime` is what relative times count from.
 * An object without flags counts as online.
 */
export function decodeMeasurement(
  type: MeasurementType,
  octets: Uint8Array,
  at: number,
  bit: number,
  commonTime: number | null,
): MeasuredValue {
  if (type.packedBits > 0)
    return { value: (octets[at] >>> bit) & ((1 << type.packedBits) - 1), flags: Flag.online, time: null };
  const reader = new ByteReader(octets, at);
  const flags = type.flags ? reader.uint8() : Flag.online;
  const value = readValue(type.value, flags, reader);
  let time: number | null = null;
  if (type.time === 'absolute') time = reader.uint48();
  if (type.time === 'relative') {
    const offset = reader.uint16();
    time = commonTime === null ? null : commonTime + offset;
  }
  return { value, flags: flags & ~(STATE_BITS[type.value] ?? 0), time };
}

function readValue(layout: ValueLayout, flags: number, reader: ByteReader): number {
  switch (layout) {
    case 'packedBit':
    case 'packedBits2':
      throw new Error('packed bits are no value of their own');
    case 'flagsBit7':
      return flags >>> 7;
    case 'flagsBits67':
      return flags >>> 6;
    default:
      return reader[layout]();
  }
}

/** A command as it was reported: what was asked for, and the control status that it got. */
export function decodeCommand(
  type: CommandType,
  octets: Uint8Array,
  at: number,
): { value: number; status: number; time: number | null } {
  const reader = new ByteReader(octets, at);
  const first = reader.uint8();
  const value = type.value === 'commandBit' ? first >>> 7 : reader[type.value]();
  return { value, status: first & 0x7f, time: type.time === 'absolute' ? reader.uint48() : null };
}

export function encodeCommand(
  type: CommandType,
  { value, status, time }: { value: number; status: number; time: number },
  out: ByteWriter,
): void {
  out.uint8((status & 0x7f) | (type.value === 'commandBit' && value ? 0x80 : 0));
  if (type.value !== 'commandBit') {
    const limits = INTEGER_LIMITS[type.value];
    out[type.value](limits ? Math.max(limits[0], Math.min(limits[1], Math.round(value))) : value);
  }
  if (type.time === 'absolute') out.uint48(Math.max(0, Math.round(time)));
}

/** Bits of the flags octet that are the value itself. */
const STATE_BITS: Partial<Record<ValueLayout, number>> = { flagsBit7: 0x80, flagsBits67: 0xc0 };

const INTEGER_LIMITS: Partial<Record<ValueLayout, readonly [number, number]>> = {
  int16: [-0x8000, 0x7fff],
  int32: [-0x8000_0000, 0x7fff_ffff],
  uint16: [0, 0xffff],
  uint32: [0, 0xffff_ffff],
};

/**
 * Writes one object (packed bits are written by the caller, eight at a time). An analog that an integer cannot hold
 * is cut to the nearest limit and flagged over range; a counter wraps round (IEEE 1815, clauses 11.9.9, 11.9.3).
 */
export function encodeMeasurement(
  type: MeasurementType,
  measured: MeasuredValue,
  out: ByteWriter,
  commonTime = 0,
): void {
  let { value, flags } = measured;
  const limits = INTEGER_LIMITS[type.value];
  if (limits !== undefined) {
    const [low, high] = limits;
    value = Number.isFinite(value) ? Math.round(value) : 0;
    if (type.kind === 'counter' || type.kind === 'frozenCounter')
      value = ((value % (high + 1)) + high + 1) % (high + 1);
    else if (value < low || value > high) {
      value = value < low ? low : high;
      flags |= Flag.chatterOrOverRange;
    }
  }
  if (type.value === 'float32' && Number.isFinite(value) && Math.abs(value) > 3.4028234663852886e38) {
    value = Math.sign(value) * 3.4028234663852886e38;
    flags |= Flag.chatterOrOverRange;
  }
  switch (type.value) {
    case 'packedBit':
    case 'packedBits2':
      throw new Error('packed bits are written by the caller');
    case 'flagsBit7':
      out.uint8((flags & 0x7f) | (value ? Flag.state : 0));
      break;
    case 'flagsBits67':
      out.uint8((flags & 0x3f) | ((value & 3) << 6));
      break;
    default:
      if (type.flags) out.uint8(flags);
      out[type.value](value);
  }
  if (type.time === 'absolute') out.uint48(Math.max(0, Math.round(measured.time ?? 0)));
  if (type.time === 'relative') out.uint16(Math.round((measured.time ?? commonTime) - commonTime));
}

/** Seconds or milliseconds of a time delay object (g52). */
export const delayMs = (variation: number, value: number): number => (variation === 1 ? value * 1000 : value);
