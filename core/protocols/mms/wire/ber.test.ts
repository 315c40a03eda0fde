import * as asn1 from 'asn1js';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { fromHex, toHex } from '../../../bytes/index.ts';
import {
  application,
  bitsOf,
  bitString,
  boolean,
  booleanOf,
  characters,
  charactersOf,
  childrenOf,
  constructed,
  context,
  encodeBer,
  find,
  integer,
  numberOf,
  objectIdentifier,
  objectIdentifierOf,
  octetsOf,
  parseBer,
  primitive,
  reading,
  sequence,
  Universal,
  wholeOf,
} from './ber.ts';

const hex = (node: Parameters<typeof encodeBer>[0]): string => toHex(encodeBer(node)).replaceAll(' ', '').toLowerCase();
const problemOf = (text: string): string => {
  const read = reading(() => parseBer(fromHex(text)));
  return read.ok ? '' : read.problem;
};

// The clauses are those of the edition of 2008, as remembered.
describe('the worked examples of ITU-T X.690', () => {
  test('8.6.4.2: the bit string 0A3B5F291CD, whole and in parts', () => {
    const bits = [...'0a3b5f291cd'].flatMap((digit) =>
      [8, 4, 2, 1].map((bit) => (Number.parseInt(digit, 16) & bit) > 0),
    );
    expect(hex(bitString(Universal.bitString, bits))).toBe('0307040a3b5f291cd0');
  });

  test('8.9.3: a sequence of a name and a boolean', () => {
    const node = sequence(characters(22, 'Smith'), boolean(Universal.boolean, true));
    expect(hex(node)).toBe('300a1605536d6974680101ff');
  });

  test('8.14: tagging, implicit and explicit', () => {
    expect(hex(characters(Universal.visibleString, 'Jones'))).toBe('1a054a6f6e6573');
    expect(hex(characters(application(3), 'Jones'))).toBe('43054a6f6e6573');
    expect(hex(constructed(context(2), characters(application(3), 'Jones')))).toBe('a20743054a6f6e6573');
    expect(hex(characters(context(2), 'Jones'))).toBe('82054a6f6e6573');
  });

  test('8.19.5: the object identifier {joint-iso-itu-t 999 3}', () => {
    expect(hex(objectIdentifier(Universal.objectIdentifier, '2.999.3'))).toBe('0603883703');
    const octets = fromHex('0603883703');
    expect(objectIdentifierOf(octets, parseBer(octets))).toBe('2.999.3');
  });

  test('8.21.5.4: a string in one piece and in parts is the same', () => {
    for (const text of ['1a054a6f6e6573', '3a0904034a6f6e04026573', '3a8004034a6f6e040265730000']) {
      const octets = fromHex(text);
      expect(charactersOf(octets, parseBer(octets))).toBe('Jones');
    }
  });

  test('Annex A: the personnel record', () => {
    const text =
      '60818561101a044a6f686e1a01501a05536d697468a00a1a084469726563746f72420133a10a43083139373130393137' +
      'a21261101a044d6172791a01541a05536d697468a342311f61111a0552616c70681a01541a05536d697468a00a4308' +
      '3139353731313131311f61111a05537573616e1a01421a054a6f6e6573a00a43083139353930373137';
    const octets = fromHex(text);
    const record = parseBer(octets);
    expect([record.tag, record.end, childrenOf(record).length]).toEqual([application(0), octets.length, 6]);
    const [name, title, number] = childrenOf(record);
    expect(childrenOf(name).map((one) => charactersOf(octets, one))).toEqual(['John', 'P', 'Smith']);
    expect(charactersOf(octets, childrenOf(title)[0])).toBe('Director');
    expect(numberOf(octets, number, 'a number', 0, 100)).toBe(51);
    const children = find(record, context(3));
    expect(children && childrenOf(children).map((one) => one.tag)).toEqual([Universal.set, Universal.set]);
  });
});

describe('against another library (asn1js), on random values', () => {
  const buffer = (octets: Uint8Array): ArrayBuffer => new Uint8Array(octets).buffer;

  test('whole numbers of up to 64 bits', () => {
    fc.assert(
      fc.property(fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }), (value) => {
        const ours = encodeBer(integer(Universal.integer, value));
        const theirs = new Uint8Array(asn1.Integer.fromBigInt(value).toBER());
        expect(toHex(ours)).toBe(toHex(theirs));
        expect(BigInt(wholeOf(ours, parseBer(ours)))).toBe(value);
      }),
      { numRuns: 2000 },
    );
  });

  test('small numbers, in the fewest octets', () => {
    for (let value = -70_000; value <= 70_000; value += 37) {
      const ours = encodeBer(integer(Universal.integer, value));
      expect(toHex(ours)).toBe(toHex(new Uint8Array(new asn1.Integer({ value }).toBER())));
      expect(wholeOf(ours, parseBer(ours))).toBe(value);
    }
  });

  test('object identifiers', () => {
    const arcs = fc
      .tuple(
        fc.integer({ min: 0, max: 2 }),
        fc.integer({ min: 0, max: 39 }),
        fc.array(fc.nat(0xffff_ff), { maxLength: 8 }),
      )
      .map(([root, second, rest]) => [root, second, ...rest].join('.'));
    fc.assert(
      fc.property(arcs, (value) => {
        const ours = encodeBer(objectIdentifier(Universal.objectIdentifier, value));
        expect(toHex(ours)).toBe(toHex(new Uint8Array(new asn1.ObjectIdentifier({ value }).toBER())));
        expect(objectIdentifierOf(ours, parseBer(ours))).toBe(value);
      }),
    );
  });

  test('sequences of octet strings of any length, read by each from the other', () => {
    const strings = fc.array(fc.uint8Array({ maxLength: 400 }), { maxLength: 20 });
    fc.assert(
      fc.property(strings, fc.boolean(), (values, isIndefinite) => {
        const ours = encodeBer(sequence(...values.map((one) => primitive(Universal.octetString, one))));
        const read = asn1.fromBER(buffer(ours)).result as asn1.Sequence;
        expect(read.valueBlock.value.map((one) => toHex(new Uint8Array((one as asn1.OctetString).getValue())))).toEqual(
          values.map(toHex),
        );
        const theirs = new Uint8Array(
          new asn1.Sequence({
            value: values.map((one) => new asn1.OctetString({ valueHex: buffer(one) })),
            lenBlock: { isIndefiniteForm: isIndefinite },
          } as never).toBER(),
        );
        const parsed = parseBer(theirs);
        expect(childrenOf(parsed).map((one) => toHex(octetsOf(theirs, one)))).toEqual(values.map(toHex));
        expect(parsed.end).toBe(theirs.length);
      }),
    );
  });

  test('bit strings and booleans', () => {
    fc.assert(
      fc.property(fc.array(fc.boolean(), { minLength: 1, maxLength: 100 }), (bits) => {
        const ours = encodeBer(bitString(Universal.bitString, bits));
        const theirs = asn1.fromBER(buffer(ours)).result as asn1.BitString;
        expect(theirs.valueBlock.unusedBits).toBe((8 - (bits.length % 8)) % 8);
        expect(bitsOf(ours, parseBer(ours))).toEqual(bits);
        const flag = encodeBer(boolean(Universal.boolean, bits[0]));
        expect(booleanOf(flag, parseBer(flag))).toBe(
          (asn1.fromBER(buffer(flag)).result as asn1.Boolean).valueBlock.value,
        );
      }),
    );
  });
});

describe('what a peer sends', () => {
  test.each([
    ['', 'an element that is cut off'],
    ['30', 'an element that is cut off'],
    ['3005', 'an element [UNIVERSAL 16] of 5 octets, where 0 are left'],
    ['30030201', 'an element [UNIVERSAL 16] of 3 octets, where 2 are left'],
    ['3003020500', 'an element [UNIVERSAL 2] of 5 octets, where 1 are left'],
    ['0280', 'a primitive element [UNIVERSAL 2] of indefinite length'],
    ['3080020105', 'an element without its end'],
    ['1fffffffffffffff00', 'a tag number of more than 28 bits'],
    ['3089ffffffffffffffffff', 'an element [UNIVERSAL 16] of more than 2^31 octets'],
    ['3080'.repeat(60), 'elements in elements, deeper than 40'],
  ])('%s is refused', (text, problem) => {
    expect(problemOf(text)).toBe(problem);
  });

  test('anything at all: a result, no exception', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), (octets) => {
        const read = reading(() => parseBer(octets));
        if (read.ok) expect(read.value.end).toBeLessThanOrEqual(octets.length);
      }),
      { numRuns: 5000 },
    );
  });

  test('tags and lengths that take more octets', () => {
    for (const [tag, size] of [
      [context(30), 127],
      [context(31), 128],
      [context(79), 255],
      [context(127), 256],
      [context(128), 65_535],
      [application(16_383), 65_536],
    ]) {
      const octets = encodeBer(primitive(tag, new Uint8Array(size)));
      const read = parseBer(octets);
      expect([read.tag, read.end, octetsOf(octets, read).length]).toEqual([tag, octets.length, size]);
    }
  });
});
