import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import {
  CONSTRAINTS,
  fromMms,
  nodeName,
  parse,
  print,
  sortKey,
  toMms,
  type Constraint,
  type Reference,
} from './reference.ts';

const read = (text: string): Reference => {
  const result = parse(text);
  if (!result.ok) throw new Error(result.problem);
  return result.value;
};
const problem = (text: string): string => {
  const result = parse(text);
  return result.ok ? '' : result.problem;
};

describe('object references', () => {
  test('as people write them, and as MMS has them', () => {
    const reference = { device: 'HLMF1', node: 'MMXU1', path: ['A', 'phsA', 'cVal', 'mag', 'f'], fc: 'MX' };
    for (const text of [
      'HLMF1/MMXU1.A.phsA.cVal.mag.f[MX]',
      ' HLMF1/MMXU1.A.phsA.cVal.mag.f[mx] ',
      'HLMF1/MMXU1.A.phsA.cVal.mag.f MX',
      'HLMF1/MMXU1$MX$A$phsA$cVal$mag$f',
    ])
      expect(read(text)).toEqual(reference);
    expect(print(read('HLMF1/MMXU1$MX$A$phsA'))).toBe('HLMF1/MMXU1.A.phsA[MX]');
    expect(toMms(read('HLMF1/XCBR1.Pos.stVal[ST]'))).toEqual({ domain: 'HLMF1', item: 'XCBR1$ST$Pos$stVal', part: [] });
  });

  test('an element of an array is a part of its variable', () => {
    expect(toMms(read('LD0/MHAI1.HA.phsAHar(3).cVal.mag[MX]'))).toEqual({
      ...{ domain: 'LD0', item: 'MHAI1$MX$HA$phsAHar' },
      part: [3, 'cVal', 'mag'],
    });
  });

  test.each([
    ['MMXU1.A[MX]', 'it has no logical device and / in front, as in HLMF1/MMXU1.A.phsA[MX]'],
    ['LD0/MMXU1.A', 'it has no functional constraint behind it, as in LD0/MMXU1.A[ST]'],
    ['LD0/MMXU1.A[XX]', `"XX" is none of the functional constraints ${Object.keys(CONSTRAINTS).join(', ')}`],
    ['LD 0/MMXU1.A[MX]', '"LD 0" is no name of a logical device'],
    ['LD0/1XU.A[MX]', '"1XU" is no logical node'],
    ['LD0/MMXU1.A..f[MX]', '"" is no name of a data object or attribute'],
    [`${'L'.repeat(65)}/MMXU1.A[MX]`, 'the logical device has 65 characters, at most 64'],
    [`LD0/MMXU1.${'a'.repeat(130)}[MX]`, 'it has 140 characters, at most 129'],
  ])('%s is refused', (text, words) => {
    expect(problem(text)).toBe(words);
  });

  test('what is printed is read again, by people’s notation and by that of MMS', () => {
    const name = fc.stringMatching(/^[A-Za-z][A-Za-z0-9]{0,9}$/);
    const reference = fc.record({
      device: name,
      node: name,
      path: fc.array(name, { maxLength: 6 }),
      fc: fc.constantFrom(...(Object.keys(CONSTRAINTS) as Constraint[])),
    });
    fc.assert(
      fc.property(reference, (one) => {
        expect(read(print(one))).toEqual(one);
        const { domain, item } = toMms(one);
        expect(fromMms(domain, item)).toEqual({ ok: true, value: one });
      }),
    );
  });

  test('no text makes it fail', () => {
    fc.assert(fc.property(fc.string({ maxLength: 200 }), (text) => void parse(text)));
  });

  test('nodes by prefix, class and number', () => {
    expect(nodeName('F1PTOC12')).toEqual({ prefix: 'F1', class: 'PTOC', instance: '12' });
    expect(nodeName('LLN0')).toEqual({ prefix: '', class: 'LLN0', instance: '' });
    expect(nodeName('x')).toBeNull();
  });

  test('in the order in which people read them', () => {
    const texts = [
      'LD0/XCBR10.Pos.stVal[ST]',
      'LD0/XCBR2.Pos.stVal[ST]',
      'LD0/LPHD1.Proxy.stVal[ST]',
      'LD0/LLN0.Mod.stVal[ST]',
    ];
    const sorted = texts.map(read).sort((a, b) => (sortKey(a) < sortKey(b) ? -1 : 1));
    expect(sorted.map(print)).toEqual([...texts].reverse());
  });
});
