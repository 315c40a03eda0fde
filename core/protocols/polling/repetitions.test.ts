import { expect, test } from 'vitest';
import { Repetitions } from './repetitions.ts';

test('what nobody answered goes out again as often as it may, in the order in which it was given up', () => {
  const repetitions = new Repetitions<string>();
  expect([repetitions.first, repetitions.size]).toEqual([undefined, 0]);
  expect(repetitions.again('read', 0, 0, 5)).toBe(false);
  expect(repetitions.again('read', 0, 2, 5)).toBe(true);
  expect(repetitions.again('other', 1, 2, 6)).toBe(true);
  expect(repetitions.again('third', 2, 2, 7)).toBe(false);
  expect([repetitions.first, repetitions.size]).toEqual([{ request: 'read', attempt: 1, since: 5 }, 2]);
  repetitions.take((request) => request === 'read');
  expect(repetitions.first).toEqual({ request: 'other', attempt: 2, since: 6 });
  repetitions.clear();
  expect(repetitions.size).toBe(0);
});
