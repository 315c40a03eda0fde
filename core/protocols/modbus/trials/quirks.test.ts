import { expect, test } from 'vitest';
import { ODDITIES, tryOddity } from './model/quirks.ts';

test('there are enough of them, each with a name of its own', () => {
  expect(ODDITIES.length).toBeGreaterThanOrEqual(35);
  expect(new Set(ODDITIES.map(({ name }) => name)).size).toBe(ODDITIES.length);
});

test.each(ODDITIES)('a server with: $name', (oddity) => expect(tryOddity(oddity)).toEqual([]));
