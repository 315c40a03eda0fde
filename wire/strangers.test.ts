import { expect, test } from 'vitest';
import { Strangers } from './strangers.ts';

const one = (address: string, n = 0): { address: string; n: number } => ({ address, n });

test('one address has a share: beyond it its own oldest goes', () => {
  const strangers = new Strangers(2, 10);
  const [a, b, c] = [one('10.0.0.1', 1), one('10.0.0.1', 2), one('10.0.0.1', 3)];
  expect([strangers.add(a), strangers.add(b)]).toEqual([null, null]);
  expect(strangers.add(one('10.0.0.2'))).toBeNull();
  expect(strangers.add(c)).toBe(a);
});

test('of all together whoever has the most gives way, not whoever comes', () => {
  const strangers = new Strangers(10, 4);
  const many = [1, 2, 3].map((n) => one('10.0.0.1', n));
  for (const each of many) strangers.add(each);
  expect(strangers.add(one('10.0.0.2'))).toBeNull();
  expect(strangers.add(one('10.0.0.3'))).toBe(many[0]);
});

test('whoever is known, or gone, takes no place', () => {
  const strangers = new Strangers(1, 10);
  const first = one('10.0.0.1');
  strangers.add(first);
  strangers.remove(first);
  strangers.remove(first);
  expect(strangers.size).toBe(0);
  expect(strangers.add(one('10.0.0.1'))).toBeNull();
  expect(strangers.size).toBe(1);
});
