import { expect, test } from 'vitest';
import { clock, exactly } from './index.ts';

const wait = (ms: number): Promise<number> => {
  const at = clock.fine() + ms;
  return new Promise((resolve) => exactly(at, () => resolve(clock.fine() - at)));
};

test('it is never early, not even by the part of a millisecond, and never before it returns', async () => {
  for (const ms of [0.3, 1.75, 4.01, 7.3, 12.6]) expect(await wait(ms)).toBeGreaterThanOrEqual(0);
  let returned = false;
  await new Promise<void>((resolve) => {
    exactly(clock.fine() - 5, () => {
      expect(returned).toBe(true);
      resolve();
    });
    returned = true;
  });
});

test('many at a time, and one that is ended', async () => {
  let ended = false;
  const end = exactly(clock.fine() + 3, () => (ended = true));
  const late = await Promise.all(Array.from({ length: 40 }, (_, n) => wait(1 + n / 10)));
  expect(Math.min(...late)).toBeGreaterThanOrEqual(0);
  const other = exactly(clock.fine() + 1, () => (ended = true));
  other();
  end();
  end();
  await wait(5);
  expect(ended).toBe(true);
});
