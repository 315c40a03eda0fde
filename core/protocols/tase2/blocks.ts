import { concat } from '../../bytes/index.ts';
import type { Data, TypeOf } from '../mms/wire/data.ts';

/*
 * Values of a blocked transfer, packed into one octet string (IEC 60870-6-503, conformance block 3). The layout is from
 * memory, and there was nobody else's to compare it with: it is used only where both ends have said so.
 *
 *   rule    1   0: every member of the data set, in its order; 1: each one with its place in front
 *   place   2   from 0; by rule 1 only
 *   value       bits 1 for each 8, whole numbers and floating point as wide as their type, structures part by part;
 *               names and texts have no octets, and are left out
 *
 * What does not come out to the last octet is no such block.
 */

const WHOLE = 0;
const PLACED = 1;

/** Octets of a value of that type; null: it is none that is packed. */
export function packedSize(of: TypeOf): number | null {
  switch (of.type) {
    case 'bits':
      return Math.ceil(Math.abs(of.size) / 8);
    // Whatever a peer says of its types: others have no octets that we know.
    case 'integer':
    case 'unsigned':
      return [8, 16, 32, 64].includes(of.bits) ? of.bits / 8 : null;
    case 'float':
      return of.width === 32 || of.width === 64 ? of.width / 8 : null;
    case 'structure': {
      let sum = 0;
      for (const part of of.components) {
        const size = packedSize(part.of);
        if (size === null) return null;
        sum += size;
      }
      return sum;
    }
    default:
      return null;
  }
}

function pack(of: TypeOf, data: Data, into: number[]): boolean {
  const numberInto = (value: number, octets: number): void => {
    const wide = BigInt.asUintN(octets * 8, BigInt(Math.round(value)));
    for (let at = octets - 1; at >= 0; at--) into.push(Number((wide >> BigInt(at * 8)) & 0xffn));
  };
  switch (of.type) {
    case 'bits': {
      if (data.type !== 'bits') return false;
      const octets = new Uint8Array(packedSize(of) ?? 0);
      data.bits.forEach((on, bit) => {
        if (on) octets[bit >> 3] |= 0x80 >> (bit & 7);
      });
      into.push(...octets);
      return true;
    }
    case 'integer':
    case 'unsigned':
      if (data.type !== 'integer' && data.type !== 'unsigned') return false;
      if (!Number.isFinite(Number(data.value))) return false;
      numberInto(Number(data.value), of.bits / 8);
      return true;
    case 'float': {
      if (data.type !== 'float') return false;
      const view = new DataView(new ArrayBuffer(of.width / 8));
      if (of.width === 32) view.setFloat32(0, data.value);
      else view.setFloat64(0, data.value);
      into.push(...new Uint8Array(view.buffer));
      return true;
    }
    case 'structure':
      return (
        data.type === 'structure' &&
        data.items.length === of.components.length &&
        of.components.every((part, at) => pack(part.of, data.items[at], into))
      );
    default:
      return false;
  }
}

function unpack(of: TypeOf, octets: Uint8Array): Data {
  const view = new DataView(octets.buffer, octets.byteOffset, octets.byteLength);
  switch (of.type) {
    case 'bits':
      return {
        type: 'bits',
        bits: Array.from({ length: Math.abs(of.size) }, (_, bit) => (octets[bit >> 3] & (0x80 >> (bit & 7))) !== 0),
      };
    case 'float':
      return of.width === 32
        ? { type: 'float', value: view.getFloat32(0), width: 32 }
        : { type: 'float', value: view.getFloat64(0), width: 64 };
    case 'structure': {
      let from = 0;
      const items = of.components.map((part) => {
        const size = packedSize(part.of) ?? 0;
        from += size;
        return unpack(part.of, octets.subarray(from - size, from));
      });
      return { type: 'structure', items };
    }
    default: {
      const wide = octets.reduce((sum, octet) => (sum << 8n) | BigInt(octet), 0n);
      const bits = octets.length * 8;
      const value = Number(of.type === 'integer' ? BigInt.asIntN(bits, wide) : wide);
      return of.type === 'integer' ? { type: 'integer', value } : { type: 'unsigned', value };
    }
  }
}

/** `some`: by their places; null: all. Null: one of them cannot be packed. */
export function encodeBlock(
  types: readonly TypeOf[],
  valueAt: (place: number) => Data | null,
  some: readonly number[] | null,
): Uint8Array | null {
  const into: number[] = [some === null ? WHOLE : PLACED];
  for (const place of some ?? types.keys()) {
    if (packedSize(types[place]) === null) continue;
    if (some !== null) into.push(place >> 8, place & 0xff);
    const value = valueAt(place);
    if (value === null || !pack(types[place], value, into)) return null;
  }
  return concat([Uint8Array.from(into)]);
}

/** The values with their places; null: it is no such block. */
export function decodeBlock(types: readonly TypeOf[], octets: Uint8Array): { place: number; value: Data }[] | null {
  const [rule] = octets;
  const values: { place: number; value: Data }[] = [];
  let at = 1;
  const take = (place: number): boolean => {
    const size = packedSize(types[place]);
    if (size === null) return rule === WHOLE;
    if (at + size > octets.length) return false;
    values.push({ place, value: unpack(types[place], octets.subarray(at, at + size)) });
    at += size;
    return true;
  };
  if (rule === WHOLE) {
    for (const place of types.keys()) if (!take(place)) return null;
  } else if (rule === PLACED) {
    while (at < octets.length) {
      const place = (octets[at] << 8) | octets[at + 1];
      at += 2;
      if (!(place < types.length) || !take(place)) return null;
    }
  } else return null;
  return at === octets.length ? values : null;
}
