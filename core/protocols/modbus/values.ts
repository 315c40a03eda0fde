/**
 * How values lie in registers (common practice; the specification knows 16-bit registers, most significant octet first,
 * and nothing larger: Modbus Application Protocol V1.1b3, 4.2).
 *
 * The octets of a value, most significant first, are called A B C D …; an order says how they come over the line:
 *
 *   ABCD  as they are
 *   CDAB  registers the other way round
 *   BADC  the octets of each register the other way round
 *   DCBA  both
 */
export const ORDERS = ['ABCD', 'CDAB', 'BADC', 'DCBA'] as const;
export type Order = (typeof ORDERS)[number];

/** Registers of each type; of a text as many as its length says. */
export const TYPES = {
  uint16: 1,
  int16: 1,
  uint32: 2,
  int32: 2,
  uint64: 4,
  int64: 4,
  float32: 2,
  float64: 4,
  /** Four decimal digits in a register, eight in two. */
  bcd16: 1,
  bcd32: 2,
  /** Two characters a register. */
  text: 0,
  /** Seconds since 1970 UTC, 32 bits without sign. */
  time32: 2,
} as const;
export type ValueType = keyof typeof TYPES;

/** What can be written in each type: whole numbers, unless it is a float. */
export const TYPE_LIMITS: Record<Exclude<ValueType, 'text'>, readonly [low: number, high: number]> = {
  uint16: [0, 0xffff],
  int16: [-0x8000, 0x7fff],
  uint32: [0, 0xffff_ffff],
  int32: [-0x8000_0000, 0x7fff_ffff],
  // Beyond these a number has not all its digits.
  uint64: [0, Number.MAX_SAFE_INTEGER],
  int64: [Number.MIN_SAFE_INTEGER, Number.MAX_SAFE_INTEGER],
  float32: [-3.4028234663852886e38, 3.4028234663852886e38],
  float64: [-Number.MAX_VALUE, Number.MAX_VALUE],
  bcd16: [0, 9999],
  bcd32: [0, 99_999_999],
  time32: [0, 0xffff_ffff],
};
/** What is served in each type: all that its registers hold. */
const HELD_LIMITS: typeof TYPE_LIMITS = {
  ...TYPE_LIMITS,
  // The largest floating-point numbers that lie within 64 bits.
  uint64: [0, 2 ** 64 - 2048],
  int64: [-(2 ** 63), 2 ** 63 - 1024],
  float32: [-Infinity, Infinity],
  float64: [-Infinity, Infinity],
};
export const isFloat = (type: ValueType): boolean => type === 'float32' || type === 'float64';

/** The registers' octets, most significant octet of the value first. */
function inOrder(octets: Uint8Array, order: Order): Uint8Array {
  const out = octets.slice();
  if (order === 'BADC' || order === 'DCBA')
    for (let at = 0; at + 1 < out.length; at += 2) [out[at], out[at + 1]] = [out[at + 1], out[at]];
  if (order === 'ABCD' || order === 'BADC') return out;
  const turned = new Uint8Array(out.length);
  for (let at = 0; at + 1 < out.length; at += 2) turned.set(out.subarray(at, at + 2), out.length - 2 - at);
  return turned;
}

export interface Value {
  /** Not a number where the octets are no value of the type: a digit over 9, a float that is none. */
  value: number;
  /** Of a text or a time; of a whole number whose digits `value` cannot all hold, those. */
  text?: string;
}

/** Reads a value of so many registers. */
export function readValue(octets: Uint8Array, form: ValueType, order: Order): Value {
  const ordered = form === 'text' ? evenOrder(octets, order) : inOrder(octets, order);
  const view = new DataView(ordered.buffer, ordered.byteOffset, ordered.length);
  const of = (value: number): Value => ({ value });
  switch (form) {
    case 'uint16':
      return of(view.getUint16(0));
    case 'int16':
      return of(view.getInt16(0));
    case 'uint32':
      return of(view.getUint32(0));
    case 'int32':
      return of(view.getInt32(0));
    case 'uint64':
      return whole(view.getBigUint64(0));
    case 'int64':
      return whole(view.getBigInt64(0));
    case 'float32':
      return of(view.getFloat32(0));
    case 'float64':
      return of(view.getFloat64(0));
    case 'bcd16':
    case 'bcd32':
      return decimal(ordered);
    case 'time32': {
      const seconds = view.getUint32(0);
      return { value: seconds, text: new Date(seconds * 1000).toISOString().slice(0, 19) + 'Z' };
    }
    case 'text':
      return { value: 0, text: textOf(ordered) };
    default:
      return form satisfies never;
  }
}

function whole(digits: bigint): Value {
  const value = Number(digits);
  return Number.isSafeInteger(value) ? { value } : { value, text: String(digits) };
}

function decimal(octets: Uint8Array): Value {
  let value = 0;
  for (const octet of octets) {
    const [tens, ones] = [octet >> 4, octet & 15];
    if (tens > 9 || ones > 9) return { value: Number.NaN };
    value = value * 100 + tens * 10 + ones;
  }
  return { value };
}

/** Characters come in the order of the registers, whatever their octets do. */
const evenOrder = (octets: Uint8Array, order: Order): Uint8Array =>
  order === 'BADC' || order === 'DCBA' ? inOrder(octets, 'BADC') : octets.slice();

/** Up to the first NUL; without blanks at the end; what is not printable ASCII as a question mark. */
function textOf(octets: Uint8Array): string {
  const end = octets.indexOf(0);
  return [...octets.subarray(0, end < 0 ? octets.length : end)]
    .map((octet) => (octet >= 32 && octet < 127 ? String.fromCharCode(octet) : '?'))
    .join('')
    .trimEnd();
}

/**
 * The registers' octets of a value that is there; what lies beyond the type becomes its nearest, and in a whole number what
 * is no number its lowest. `digits`: of a whole number that has more than `value` keeps.
 */
export function holdValue(
  value: number,
  form: Exclude<ValueType, 'text'>,
  order: Order,
  digits: string | null = null,
): Uint8Array {
  const [low, high] = HELD_LIMITS[form];
  const isWide = form === 'uint64' || form === 'int64';
  if (isWide && digits !== null && /^-?\d{1,20}$/.test(digits) && Number(digits) === value) {
    const exact = form === 'uint64' ? BigInt.asUintN(64, BigInt(digits)) : BigInt.asIntN(64, BigInt(digits));
    if (exact === BigInt(digits)) {
      const octets = new Uint8Array(8);
      new DataView(octets.buffer).setBigUint64(0, BigInt.asUintN(64, exact));
      return inOrder(octets, order);
    }
  }
  const held = isFloat(form) ? value : Number.isNaN(value) ? low : Math.min(high, Math.max(low, Math.round(value)));
  return writeValue(held, form, order, TYPES[form]);
}

/** The registers' octets of a value to write; it lies within the limits of the type. */
export function writeValue(value: number | string, form: ValueType, order: Order, registers: number): Uint8Array {
  const octets = new Uint8Array(registers * 2);
  const view = new DataView(octets.buffer);
  const number = Number(value);
  switch (form) {
    case 'uint16':
    case 'int16':
      view.setUint16(0, number & 0xffff);
      break;
    case 'uint32':
    case 'int32':
    case 'time32':
      view.setInt32(0, number | 0);
      if (form !== 'int32') view.setUint32(0, number);
      break;
    case 'uint64':
    case 'int64':
      view.setBigInt64(0, BigInt(Math.round(number)));
      break;
    case 'float32':
      view.setFloat32(0, number);
      break;
    case 'float64':
      view.setFloat64(0, number);
      break;
    case 'bcd16':
    case 'bcd32': {
      let rest = Math.round(number);
      for (let at = octets.length - 1; at >= 0; at--) {
        octets[at] = (Math.floor((rest % 100) / 10) << 4) | (rest % 10);
        rest = Math.floor(rest / 100);
      }
      break;
    }
    case 'text':
      for (let at = 0; at < octets.length; at++) octets[at] = String(value).charCodeAt(at) & 0x7f;
      return evenOrder(octets, order);
    default:
      form satisfies never;
  }
  return inOrder(octets, order);
}
