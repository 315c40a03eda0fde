import { expect, test } from 'vitest';
import { Doors, Guesses, Throttle } from './throttle.ts';

test('a few tries are free, then each failure doubles the pause, and success forgives', () => {
  const throttle = new Throttle(4);
  for (let i = 0; i < 3; i++) throttle.fail('a', 0);
  expect(throttle.pauseFor('a', 0)).toBe(0);
  throttle.fail('a', 0);
  expect(throttle.pauseFor('a', 0)).toBe(1000);
  throttle.fail('a', 1000);
  expect(throttle.pauseFor('a', 1000)).toBe(2000);
  expect(throttle.pauseFor('b', 1000)).toBe(0);
  for (let i = 0; i < 20; i++) throttle.fail('a', 1000);
  expect(throttle.pauseFor('a', 1000)).toBe(60_000);
  expect(throttle.pauseFor('a', 1000 + 15 * 60_000 + 1)).toBe(0);
  throttle.fail('a', 0);
  throttle.succeed('a');
  expect(throttle.pauseFor('a', 1000)).toBe(0);
});

test('what it remembers is bounded', () => {
  const [throttle, guesses] = [new Throttle(4), new Guesses()];
  for (let i = 0; i < 20_000; i++) throttle.fail(`name ${i}`, 0);
  for (let i = 0; i < 20_000; i++) guesses.fail(`name ${i}`, 0);
  expect((throttle as unknown as { failures: Map<string, unknown> }).failures.size).toBe(10_000);
  expect((guesses as unknown as { spent: Map<string, unknown> }).spent.size).toBe(10_000);
});

test('of one account at most a hundred guesses are looked at in any hour, from however many addresses', () => {
  const doors = new Doors();
  const looked: number[] = [];
  for (let now = 0; now < 3 * 3_600_000; now += 1000) {
    const one = { name: 'ada', address: `10.0.${(now / 1000) % 200}.${Math.floor(now / 200_000)}`, device: null };
    if (doors.pauseFor(one, now) > 0) continue;
    doors.tries(one, now);
    looked.push(now);
  }
  const most = Math.max(...looked.map((from) => looked.filter((at) => at >= from && at < from + 3_600_000).length));
  expect(most).toBeGreaterThan(80);
  expect(most).toBeLessThanOrEqual(100);
});

test('failures of one name keep nobody else at the same address waiting, nor the same name elsewhere', () => {
  const doors = new Doors();
  const one = { name: 'ada', address: '10.0.0.1', device: null };
  for (let i = 0; i < 4; i++) doors.tries(one, 0);
  expect(doors.pauseFor(one, 0)).toBe(1000);
  expect(doors.pauseFor({ ...one, name: 'bea' }, 0)).toBe(0);
  expect(doors.pauseFor({ ...one, address: '10.0.0.2' }, 0)).toBe(0);
  for (let i = 0; i < 60; i++) doors.tries({ ...one, name: `name ${i}` }, 0);
  expect(doors.pauseFor({ ...one, name: 'bea' }, 0)).toBeGreaterThan(0);
});

test('a browser in which the account signed in before is not kept waiting by anybody; its own failures end that', () => {
  const doors = new Doors();
  const known = { name: 'ada', address: '10.0.0.1', device: 'a hash' };
  for (let i = 0; i < 80; i++) doors.tries({ ...known, device: null }, 0);
  expect(doors.pauseFor({ ...known, device: null }, 0)).toBeGreaterThan(0);
  expect(doors.pauseFor(known, 0)).toBe(0);
  for (let i = 0; i < 10; i++) doors.tries(known, 0);
  expect(doors.pauseFor(known, 0)).toBeGreaterThan(0);
  doors.succeeds(known, 0);
  expect(doors.pauseFor(known, 0)).toBe(0);
});

test('a right password costs nothing', () => {
  const doors = new Doors();
  const one = { name: 'ada', address: '10.0.0.1', device: null };
  for (let i = 0; i < 200; i++) {
    expect(doors.pauseFor(one, 0)).toBe(0);
    doors.tries(one, 0);
    doors.succeeds(one, 0);
  }
});
