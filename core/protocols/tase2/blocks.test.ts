import fc from 'fast-check';
import { expect, test } from 'vitest';
import type { Data, TypeOf } from '../mms/wire/data.ts';
import { decodeBlock, encodeBlock, packedSize } from './blocks.ts';
import { encode, INDICATIONS, typeOf } from './types.ts';

const TYPES = INDICATIONS.map(typeOf);
const NAME: TypeOf = { type: 'structure', components: [{ name: 'Name', of: { type: 'text', size: -32 } }] };
const values = (seed: number): Data[] =>
  INDICATIONS.map((type, at) =>
    encode(type, {
      ...{ value: type.startsWith('State') ? at % 4 : ((seed + at) % 1000) - 500, time: 1_700_000_000_000 + seed },
      ...{ flags: Array.from({ length: 8 }, (_, bit) => (seed >> bit) % 2 === 1), changes: seed % 100 },
    }),
  );

test('every type comes out as it went in, all of them and some', () => {
  fc.assert(
    fc.property(fc.nat(100_000), fc.subarray([...TYPES.keys()]), (seed, some) => {
      const given = values(seed);
      for (const places of [null, some]) {
        const block = encodeBlock(TYPES, (at) => given[at], places);
        const back = block && decodeBlock(TYPES, block);
        expect(back).toEqual((places ?? [...TYPES.keys()]).map((place) => ({ place, value: given[place] })));
      }
    }),
    { numRuns: 200 },
  );
});

test('what is a name is left out, and what cannot be packed is not', () => {
  const types = [NAME, TYPES[0]];
  const [value] = values(5);
  const block = encodeBlock(types, (at) => (at === 0 ? null : value), null);
  expect(block && decodeBlock(types, block)).toEqual([{ place: 1, value }]);
  expect([packedSize(NAME), encodeBlock([TYPES[0]], () => ({ type: 'boolean', value: true }), null)]).toEqual([
    null,
    null,
  ]);
});

test('types that a peer makes up are not packed, and values that are no numbers neither', () => {
  const odd: TypeOf[] = [
    { type: 'float', width: 16, exponent: 5 },
    { type: 'integer', bits: 7 },
    { type: 'unsigned', bits: 0 },
    { type: 'boolean' },
    { type: 'structure', components: [{ name: 'x', of: { type: 'float', width: 8, exponent: 3 } }] },
  ];
  expect(odd.map(packedSize)).toEqual([null, null, null, null, null]);
  for (const one of odd) expect(decodeBlock([one, TYPES[0]], Uint8Array.of(1, 0, 0, 1, 2, 3))).toBeNull();
  const whole: TypeOf = { type: 'integer', bits: 32 };
  for (const value of [NaN, Infinity])
    expect(encodeBlock([whole], () => ({ type: 'integer', value }), null)).toBeNull();
});

test('anything else is no block, and harms nothing', () => {
  const whole = encodeBlock(TYPES, (at) => values(1)[at], null) ?? new Uint8Array();
  for (const wrong of [whole.subarray(0, -1), Uint8Array.of(...whole, 0), Uint8Array.of(9, ...whole.subarray(1))])
    expect(decodeBlock(TYPES, wrong)).toBeNull();
  // A place beyond the data set.
  expect(decodeBlock([TYPES[0]], Uint8Array.of(1, 0, 1, 0))).toBeNull();
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 200 }), (octets) => {
      const read = decodeBlock(TYPES, octets);
      expect(read === null || read.every(({ place }) => place < TYPES.length)).toBe(true);
    }),
    { numRuns: 2000 },
  );
});
