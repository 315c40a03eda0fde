import { expect, test } from 'vitest';
import type { TypeOf } from '../../mms/wire/data.ts';
import { controlValue } from './controls.ts';

const set = (counts: number, of: TypeOf): unknown => {
  const value = controlValue({ operation: null, counts }, of);
  return value.ok ? value.value : value.problem;
};
const INTEGER: TypeOf = { type: 'integer', bits: 32 };
const FLOAT: TypeOf = { type: 'float', width: 32, exponent: 8 } as TypeOf;

test('what is set is never rounded to what its type can hold', () => {
  expect(set(7, INTEGER)).toEqual({ type: 'integer', value: 7 });
  expect(set(7.0000001, INTEGER)).toEqual({ type: 'integer', value: 7 });
  expect(set(7.5, INTEGER)).toBe('7.5 is no whole number, and it takes no other');
  expect(set(7.5, FLOAT)).toMatchObject({ type: 'float', value: 7.5 });
  expect(set(1, { type: 'boolean' })).toEqual({ type: 'boolean', value: true });
  expect(set(7.5, { type: 'boolean' })).toBe('7.5 does not fit: it takes 0 or 1');
});

test('of an analog value both numbers are written, the whole one as the nearest', () => {
  const both = (names: string[]): TypeOf =>
    ({
      type: 'structure',
      components: names.map((name) => ({ name, of: name === 'i' ? INTEGER : FLOAT })),
    }) as TypeOf;
  expect(set(7.5, both(['i', 'f']))).toMatchObject({ items: [{ value: 8 }, { value: 7.5 }] });
  expect(set(7.5, both(['i']))).toBe('7.5 is no whole number, and it takes no other');
});
