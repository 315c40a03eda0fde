import { expect, test } from 'vitest';
import { measuredNumber, numberOnWire, Quality, scaledValue, validity, type ScaledPoint } from './index.ts';

test.each([
  [1.5, 1.5, Quality.good, 'good'],
  [0, 0, Quality.good, 'good'],
  [Number.NaN, 0, Quality.notANumber, 'invalid'],
  [Infinity, Number.MAX_VALUE, Quality.overRange, 'questionable'],
  [-Infinity, -Number.MAX_VALUE, Quality.underRange, 'questionable'],
] as const)('%d on the line is a number that says what it is, and goes out as it came', (came, raw, quality, valid) => {
  expect(measuredNumber(came)).toEqual({ raw, quality });
  expect(validity(quality)).toBe(valid);
  expect(numberOnWire(raw, quality)).toBe(came);
});

test('the largest numbers stay numbers, however they are scaled', () => {
  const straight = { pairs: null, range: 'none', gain: -4, offset: 0 } as ScaledPoint;
  expect(scaledValue(Number.MAX_VALUE, straight)).toBe(-Number.MAX_VALUE);
  const pairs = { rawLow: 0, rawHigh: 1, low: -1000, high: 1000 };
  expect(scaledValue(Number.MAX_VALUE, { ...straight, pairs })).toBe(Number.MAX_VALUE);
  expect(scaledValue(0.5, { ...straight, pairs })).toBe(0);
});
