import { expect, test } from 'vitest';
import { fuzz } from './fuzz.ts';

test('hostile octets do no harm to client and server of models', () => {
  // A chance that is the same each time: a linear congruence is enough to choose by.
  let state = 8;
  const random = (): number => (state = (state * 1_103_515_245 + 12_345) % 2_147_483_648) / 2_147_483_648;
  let ticks = 0;
  const report = fuzz(600, random, () => ticks++ / 1000);
  expect(report.problems).toEqual([]);
  expect(report.taken).toBeGreaterThan(2000);
});
