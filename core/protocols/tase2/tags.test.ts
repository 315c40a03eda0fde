import { expect, test } from 'vitest';
import type { AccessResult } from '../mms/wire/data.ts';
import { INHIBITS, NO_TAG, tagData, tagOf, tagWords } from './tags.ts';

const bits = (...on: number[]): AccessResult => ({ type: 'bits', bits: on.map((one) => one === 1) });
const reason = (text: string): AccessResult => ({ type: 'text', text, wide: false });
const tag = (...items: AccessResult[]): AccessResult => ({ type: 'structure', items: items as never });

/** The two bits, as remembered of IEC 60870-6-503: no tag, open and close inhibit, close only inhibit, none. */
test.each([
  ['nothing', [0, 0]],
  ['open and close', [0, 1]],
  ['close', [1, 0]],
] as const)('a tag that inhibits %s', (inhibits, on) => {
  const data = tagData({ inhibits, reason: 'crew' });
  expect(data).toEqual(tag(bits(...on), reason('crew')));
  expect(tagOf(data)).toEqual({ inhibits, reason: 'crew' });
  // Another end has more bits there.
  const wide = tagData({ inhibits, reason: '' }, 8);
  expect(wide).toEqual(tag(bits(...on, 0, 0, 0, 0, 0, 0), reason('')));
  expect(tagOf(wide)).toEqual({ inhibits, reason: '' });
});

test.each<[string, AccessResult | undefined]>([
  ['nothing at all', undefined],
  ['a failure', { type: 'failure', code: 10 }],
  ['the fourth state', tag(bits(1, 1), reason(''))],
  ['one bit', tag(bits(1), reason(''))],
  ['no reason', tag(bits(0, 1))],
  ['a number for a reason', tag(bits(0, 1), { type: 'integer', value: 1 })],
  ['bits without a structure', bits(0, 1)],
])('%s is no tag', (_what, data) => expect(tagOf(data)).toBeNull());

test('each is told in words', () => {
  expect(INHIBITS.map((inhibits) => tagWords({ inhibits, reason: '' }))).toEqual([
    'no tag',
    'tagged, inhibits open and close',
    'tagged, inhibits close',
  ]);
  expect(tagWords({ inhibits: 'close', reason: 'line work' })).toBe('tagged, inhibits close: line work');
  expect(tagWords(NO_TAG)).toBe('no tag');
});
