import { expect, test } from 'vitest';
import { SecurityFold } from './securityfold.ts';

const entry = (what: string, address: string, words = '') => ({ what, address, words });

test('some lines of a sort and an address stand by themselves, the others as a number, minute by minute', () => {
  const fold = new SecurityFold<ReturnType<typeof entry>>();
  const taken = Array.from({ length: 50 }, (_, n) => fold.takes(entry('refused', '10.0.0.9', `${n}`), 1000 + n));
  expect(taken.filter(Boolean)).toHaveLength(20);
  expect([fold.takes(entry('refused', '10.0.0.8'), 2000), fold.takes(entry('sign-out', '10.0.0.9'), 2000)]).toEqual([
    true,
    true,
  ]);
  expect(fold.over(60_999)).toEqual([]);
  expect(fold.over(61_000)).toEqual([{ entry: entry('refused', '10.0.0.9', '49'), count: 30 }]);
  expect(fold.over(200_000)).toEqual([]);
  expect(fold.takes(entry('refused', '10.0.0.9'), 200_000)).toBe(true);
});

test('thousands of addresses are not thousands of lines without end', () => {
  const fold = new SecurityFold<ReturnType<typeof entry>>();
  const taken = Array.from({ length: 5000 }, (_, n) => fold.takes(entry('refused', `10.0.${n >> 8}.${n & 255}`), 0));
  expect(taken.filter(Boolean)).toHaveLength(1020);
});
