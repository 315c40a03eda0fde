import { ByteReader, type ByteWriter } from '../../../bytes/index.ts';
import { objectType, takesAnyVariation, type ObjectType } from './objects.ts';

/** Qualifier octets (IEEE 1815, tables 4-5 and 4-6) that are written here, named by prefix and range. */
export const Qualifier = {
  startStop8: 0x00,
  startStop16: 0x01,
  all: 0x06,
  count8: 0x07,
  count16: 0x08,
  count8Index8: 0x17,
  count16Index16: 0x28,
} as const;

/**
 * What a qualifier says: bits 4 to 6 the prefix of each object (an index, or its size), bits 0 to 3 the range. Virtual
 * addresses (range codes 3 to 5) are not known here.
 */
interface QualifierType {
  prefix: 'none' | 'index' | 'size';
  prefixOctets: 0 | 1 | 2 | 4;
  range: 'startStop' | 'all' | 'count';
  /** Of the count, or of start and stop each. */
  rangeOctets: 0 | 1 | 2 | 4;
}

const OCTETS = [1, 2, 4] as const;
const FREE_FORMAT = 0x0b;

function readQualifier(qualifier: number): QualifierType | null {
  const prefixCode = qualifier >>> 4;
  const rangeCode = qualifier & 0x0f;
  if (prefixCode > 6) return null;
  const prefix = prefixCode === 0 ? 'none' : prefixCode <= 3 ? 'index' : 'size';
  const prefixOctets = prefixCode === 0 ? 0 : OCTETS[(prefixCode - 1) % 3];
  const kind = { prefix, prefixOctets } as const;
  if (rangeCode === FREE_FORMAT) return prefix === 'size' ? { ...kind, range: 'count', rangeOctets: 1 } : null;
  if (rangeCode === 6) return prefix === 'none' ? { ...kind, range: 'all', rangeOctets: 0 } : null;
  if (rangeCode <= 2) return prefix === 'none' ? { ...kind, range: 'startStop', rangeOctets: OCTETS[rangeCode] } : null;
  return rangeCode >= 7 && rangeCode <= 9 ? { ...kind, range: 'count', rangeOctets: OCTETS[rangeCode - 7] } : null;
}

/** What each of the 256 qualifiers says. */
const QUALIFIERS = Array.from({ length: 256 }, (_, qualifier) => readQualifier(qualifier));

const readNumber = (reader: ByteReader, octets: number): number =>
  octets === 1 ? reader.uint8() : octets === 2 ? reader.uint16() : reader.uint32();

export type HeaderRange =
  | { type: 'all' }
  | { type: 'range'; start: number; stop: number }
  | { type: 'count'; count: number }
  | { type: 'indexes'; indexes: number[] };

export interface HeaderItem {
  /** Point index; for objects counted without index, their number in the list. */
  index: number;
  /** Where the object stands in the fragment; for packed bits the octet and the bit in it. */
  at: number;
  bit: number;
}

export interface ObjectHeader {
  group: number;
  variation: number;
  qualifier: number;
  range: HeaderRange;
  /** Undefined for variation 0 of a known group. */
  type: ObjectType | undefined;
  /** The objects, when the fragment carries them. */
  items: HeaderItem[];
}

export type HeaderProblem = {
  kind: 'truncated' | 'objectUnknown' | 'qualifierUnknown' | 'badRange';
  group: number;
  variation: number;
  qualifier: number;
  words: string;
};

/**
 * Object headers and, with `withObjects`, the objects behind them (IEEE 1815, clause 4.2.2.8).
 *
 *   group      1
 *   variation  1
 *   qualifier  1   prefix code (3 bits), range specifier (4 bits)
 *   range      0…4 by qualifier
 *   objects    …   each with its prefix
 *
 * What stands before a problem is returned with it. Every count is checked against the octets that are there.
 */
export function parseHeaders(
  octets: Uint8Array,
  start: number,
  withObjects: boolean,
): { headers: ObjectHeader[]; problem: HeaderProblem | null } {
  const headers: ObjectHeader[] = [];
  const reader = new ByteReader(octets, start);
  while (reader.remaining > 0) {
    if (reader.remaining < 3)
      return {
        headers,
        problem: {
          kind: 'truncated',
          group: 0,
          variation: 0,
          qualifier: 0,
          words: `object header of ${reader.remaining} octets, at least 3`,
        },
      };
    const group = reader.uint8();
    const variation = reader.uint8();
    const qualifier = reader.uint8();
    const fail = (kind: HeaderProblem['kind'], words: string): { headers: ObjectHeader[]; problem: HeaderProblem } => ({
      headers,
      problem: {
        kind,
        group,
        variation,
        qualifier,
        words: `g${group}v${variation} qualifier ${hex(qualifier)}: ${words}`,
      },
    });
    const known = QUALIFIERS[qualifier];
    const type = objectType(group, variation);
    const anyVariation = variation === 0 && takesAnyVariation(group);
    // An object that says its size can be passed over, whatever it is.
    const sized = known?.prefix === 'size' && withObjects;
    if (type === undefined && !(anyVariation && !withObjects) && !sized) return fail('objectUnknown', 'not known here');
    if (known === null) return fail('qualifierUnknown', 'not known here');

    const bits = type?.packedBits ?? 0;
    const packed = bits > 0;
    const size = type?.octets ?? 0;
    const items: HeaderItem[] = [];
    let range: HeaderRange;
    const rangeOctets = known.range === 'startStop' ? 2 * known.rangeOctets : known.rangeOctets;
    if (reader.remaining < rangeOctets)
      return fail('truncated', `range needs ${rangeOctets} octets, ${reader.remaining} left`);

    if (known.range === 'all') {
      if (withObjects && type?.octets !== null) return fail('badRange', 'no range, but objects need one');
      range = { type: 'all' };
    } else if (known.range === 'startStop') {
      const first = readNumber(reader, known.rangeOctets);
      const stop = readNumber(reader, known.rangeOctets);
      if (stop < first) return fail('badRange', `stop ${stop} before start ${first}`);
      range = { type: 'range', start: first, stop };
      const count = stop - first + 1;
      if (withObjects && type?.what === 'attribute') {
        for (let i = 0; i < count; i++) {
          const length = reader.remaining >= 2 ? octets[reader.offset + 1] : 0;
          if (reader.remaining < 2 + length || reader.remaining < 2)
            return fail('truncated', `an attribute needs ${2 + length} octets, ${reader.remaining} left`);
          items.push({ index: first + i, at: reader.offset, bit: 0 });
          reader.take(2 + length);
        }
      } else if (withObjects) {
        const need = packed ? Math.ceil((count * bits) / 8) : count * size;
        if (need > reader.remaining || (need === 0 && count > 0))
          return fail('truncated', `${count} objects need ${need} octets, ${reader.remaining} left`);
        for (let i = 0; i < count; i++)
          items.push({
            index: first + i,
            at: reader.offset + (packed ? (i * bits) >>> 3 : i * size),
            bit: packed ? (i * bits) & 7 : 0,
          });
        reader.take(need);
      }
    } else if (known.prefix === 'size') {
      const count = readNumber(reader, known.rangeOctets);
      range = { type: 'count', count };
      for (let i = 0; i < count; i++) {
        if (reader.remaining < known.prefixOctets)
          return fail('truncated', `a size needs ${known.prefixOctets} octets, ${reader.remaining} left`);
        const own = readNumber(reader, known.prefixOctets);
        if (own > reader.remaining) return fail('truncated', `an object needs ${own} octets, ${reader.remaining} left`);
        items.push({ index: i, at: reader.offset, bit: 0 });
        reader.take(own);
      }
    } else if (known.prefix === 'none') {
      const count = readNumber(reader, known.rangeOctets);
      range = { type: 'count', count };
      // A class takes a count as a limit; it has no objects.
      if (withObjects && type?.octets !== null) {
        if (packed) return fail('badRange', 'packed bits need a start and a stop');
        const need = count * size;
        if (need > reader.remaining || (need === 0 && count > 0))
          return fail('truncated', `${count} objects need ${need} octets, ${reader.remaining} left`);
        for (let i = 0; i < count; i++) items.push({ index: i, at: reader.offset + i * size, bit: 0 });
        reader.take(need);
      }
    } else {
      const count = readNumber(reader, known.rangeOctets);
      if (packed && withObjects) return fail('badRange', 'packed bits need a start and a stop');
      const need = count * (known.prefixOctets + (withObjects ? size : 0));
      if (need > reader.remaining)
        return fail('truncated', `${count} objects need ${need} octets, ${reader.remaining} left`);
      const indexes: number[] = [];
      for (let i = 0; i < count; i++) {
        const index = readNumber(reader, known.prefixOctets);
        indexes.push(index);
        if (!withObjects) continue;
        items.push({ index, at: reader.offset, bit: 0 });
        reader.take(size);
      }
      range = { type: 'indexes', indexes };
    }
    // What says its size but is not known is nobody's.
    if (type !== undefined || !sized) headers.push({ group, variation, qualifier, range, type, items });
  }
  return { headers, problem: null };
}

const hex = (octet: number): string => octet.toString(16).padStart(2, '0');

/** A header without a range: `g60v2` with qualifier 06 asks for all of class 1. */
export function writeAllHeader(out: ByteWriter, group: number, variation: number): void {
  out.uint8(group).uint8(variation).uint8(Qualifier.all);
}

/** A header for start…stop, in the narrowest qualifier that holds them. */
export function writeRangeHeader(out: ByteWriter, group: number, variation: number, start: number, stop: number): void {
  out.uint8(group).uint8(variation);
  if (stop <= 0xff) out.uint8(Qualifier.startStop8).uint8(start).uint8(stop);
  else out.uint8(Qualifier.startStop16).uint16(start).uint16(stop);
}

/** A header for a count of objects, each with its index before it. Returns how to write those indexes. */
export function writeIndexedHeader(
  out: ByteWriter,
  group: number,
  variation: number,
  count: number,
  highestIndex: number,
): (index: number) => void {
  out.uint8(group).uint8(variation);
  if (count <= 0xff && highestIndex <= 0xff) {
    out.uint8(Qualifier.count8Index8).uint8(count);
    return (index) => void out.uint8(index);
  }
  out.uint8(Qualifier.count16Index16).uint16(count);
  return (index) => void out.uint16(index);
}

export function writeCountHeader(out: ByteWriter, group: number, variation: number, count: number): void {
  out.uint8(group).uint8(variation);
  if (count <= 0xff) out.uint8(Qualifier.count8).uint8(count);
  else out.uint8(Qualifier.count16).uint16(count);
}
