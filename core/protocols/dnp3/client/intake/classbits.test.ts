import { expect, test } from 'vitest';
import { ClassBits } from './classbits.ts';

const [ONE, TWO, THREE] = [1, 2, 4];

test('mean nothing until an answer brings events without them', () => {
  const bits = new ClassBits();
  expect(bits.of(ONE | TWO, ONE | THREE)).toBe(THREE);
  bits.complete(ONE | TWO);
  // It brought some of class 1 and 2, and says that none wait.
  expect(bits.of(ONE | TWO, 0)).toBe(0);
  expect(bits.of(ONE | TWO, ONE)).toBe(ONE);
});

test('count what the answer carries where the next one brings nothing', () => {
  const bits = new ClassBits();
  bits.of(ONE, 0);
  bits.complete(ONE);
  expect(bits.of(ONE, ONE)).toBe(ONE);
  bits.complete(ONE);
  // Of another class that says nothing.
  bits.complete(TWO);
  expect(bits.of(ONE, ONE)).toBe(ONE);
  bits.complete(ONE);
  bits.complete(ONE);
  expect(bits.of(ONE, ONE | TWO)).toBe(TWO);
});

test('what may have come another way proves nothing', () => {
  const bits = new ClassBits();
  bits.of(ONE, 0);
  bits.of(ONE, ONE);
  bits.forget();
  bits.complete(ONE);
  expect(bits.of(ONE, ONE)).toBe(ONE);
});
