import type { OwedEvent } from '@halvix/db';
import { beforeEach, expect, test } from 'vitest';
import { Contributions } from './contributions.ts';

let stored: number[][];
let contributions: Contributions;
const event = (number: number): OwedEvent => ({ outbound: 1, queue: 'q', number, octets: new Uint8Array() });
const numbers = (events: readonly OwedEvent[]): number[] => events.map(({ number }) => number);
beforeEach(() => {
  stored = [];
  contributions = new Contributions((owed) => stored.push(numbers(owed)));
});

test('what is owed because of readings goes with them, in its order', async () => {
  const owed = contributions.during(() => {
    contributions.add(event(1));
    contributions.add(event(2));
  });
  await Promise.resolve();
  expect([numbers(owed), stored]).toEqual([[1, 2], []]);
});

test('what comes at another time is stored by itself, with what comes in the same moment', async () => {
  contributions.add(event(1));
  contributions.add(event(2));
  const owed = contributions.during(() => contributions.add(event(3)));
  await Promise.resolve();
  contributions.add(event(4));
  await Promise.resolve();
  expect([numbers(owed), stored]).toEqual([[3], [[1, 2], [4]]]);
});

test('work that fails leaves nothing behind for the next', async () => {
  const fails = (): void => {
    contributions.add(event(1));
    throw new Error('no');
  };
  expect(() => contributions.during(fails)).toThrow('no');
  expect(numbers(contributions.during(() => contributions.add(event(2))))).toEqual([2]);
  expect(() => contributions.during(() => contributions.during(() => {}))).toThrow('gathered already');
});
