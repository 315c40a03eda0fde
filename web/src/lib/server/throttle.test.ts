import { expect, test } from 'vitest';
import { Throttle } from './throttle.ts';

test('a few tries are free, then each failure doubles the pause, and success forgives', () => {
  const throttle = new Throttle();
  for (let i = 0; i < 3; i++) throttle.fail(['name a'], 0);
  expect(throttle.pauseFor(['name a'], 0)).toBe(0);
  throttle.fail(['name a'], 0);
  expect(throttle.pauseFor(['name a'], 0)).toBe(1000);
  throttle.fail(['name a'], 1000);
  expect(throttle.pauseFor(['name a', 'name b'], 1000)).toBe(2000);
  expect(throttle.pauseFor(['name b'], 1000)).toBe(0);
  throttle.succeed(['name a']);
  expect(throttle.pauseFor(['name a'], 1000)).toBe(0);
});

test('what it remembers is bounded', () => {
  const throttle = new Throttle();
  for (let i = 0; i < 20_000; i++) throttle.fail([`name ${i}`], 0);
  expect((throttle as unknown as { failures: Map<string, unknown> }).failures.size).toBe(10_000);
});
