import type { Turn } from '@halvix/core/line';
import { expect, test } from 'vitest';
import { RecentTurns } from './recentturns.ts';

const turnOf = (n: number): Turn => ({
  ...{ device: `D${n % 3}`, words: n % 5 === 0 ? 'class 1' : 'confirm', outcome: n % 7 === 0 ? 'silent' : 'answered' },
  ...{ began: 1_700_000_000_000 + n, ended: 1_700_000_000_010 + n, waitingMs: n, sendingMs: 0.5, receivingMs: n / 4 },
});

test.each([0, 1, 15, 16, 17, 239, 240, 241, 1000])('of %i turns the last 240 are there, as they were', (count) => {
  const recent = new RecentTurns();
  for (let n = 0; n < count; n++) recent.add(turnOf(n));
  const kept = Math.min(count, 240);
  expect(recent.all()).toEqual(Array.from({ length: kept }, (_, i) => turnOf(count - kept + i)));
});
