import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { deadbandInCounts, deadbandInUnits, exceedsDeadband } from './deadband.ts';
import { LimitWatch, inOrder, type Limits } from './limits.ts';
import { Quality } from './quality.ts';
import { lineThrough, rangeQuality, scaledValue, scalingOf, type ScaledPoint } from './scaling.ts';

const pairs = (
  rawLow: number,
  rawHigh: number,
  low: number,
  high: number,
  range: ScaledPoint['range'] = 'none',
): ScaledPoint => ({
  gain: 1,
  offset: 0,
  pairs: { rawLow, rawHigh, low, high },
  range,
});

describe('scaling by two pairs', () => {
  // Worked examples of a 4 to 20 mA loop (common practice): 12 mA is half of the span.
  test.each([
    [pairs(4, 20, 0, 100), 4, 0],
    [pairs(4, 20, 0, 100), 12, 50],
    [pairs(4, 20, 0, 100), 20, 100],
    [pairs(4, 20, -50, 150), 8, 0],
    // 0 to 4095 counts over 0 to 16 bar: mid-scale.
    [pairs(0, 4095, 0, 16), 2047.5, 8],
    // A falling line: a level transmitter that measures the distance from above.
    [pairs(4, 20, 6, 0), 8, 4.5],
  ])('%#', (point, raw, value) => expect(scaledValue(raw, point)).toBeCloseTo(value, 12));

  test('both ends come out exactly, and the line through them is the same scaling', () => {
    fc.assert(
      fc.property(
        fc.integer({ min: -32768, max: 32767 }),
        fc.integer({ min: 1, max: 65535 }),
        fc.double({ min: -1e6, max: 1e6, noNaN: true }),
        fc.double({ min: -1e6, max: 1e6, noNaN: true }),
        fc.integer({ min: -40000, max: 40000 }),
        (rawLow, span, low, high, raw) => {
          const point = pairs(rawLow, rawLow + span, low, high);
          expect(scaledValue(rawLow, point) === low).toBe(true);
          expect(scaledValue(rawLow + span, point) === high).toBe(true);
          const { gain, offset } = scalingOf(point);
          const scaleOf = Math.max(1, Math.abs(gain * raw), Math.abs(offset));
          expect(Math.abs(scaledValue(raw, point) - (raw * gain + offset)) / scaleOf).toBeLessThan(1e-9);
        },
      ),
    );
  });

  test('equal raw values give no line', () => {
    expect(lineThrough({ rawLow: 4, rawHigh: 4, low: 0, high: 1 })).toBeNull();
    expect(scaledValue(7, pairs(4, 4, 0, 1))).toBe(7);
  });
});

describe('range', () => {
  // NAMUR NE 43: measurement from 3.8 to 20.5 mA, failure at 3.6 mA and below or 21.0 mA and above.
  test.each([
    [4, 0],
    [20, 0],
    [3.8, 0],
    [20.5, 0],
    [3.79, Quality.underRange],
    [3.61, Quality.underRange],
    [3.6, Quality.underRange | Quality.signalFailure],
    [0, Quality.underRange | Quality.signalFailure],
    [20.51, Quality.overRange],
    [20.99, Quality.overRange],
    [21, Quality.overRange | Quality.signalFailure],
    [22.5, Quality.overRange | Quality.signalFailure],
  ])('live zero: %d mA', (milliamperes, quality) => {
    expect(rangeQuality(milliamperes, pairs(4, 20, 0, 100, 'liveZero'))).toBe(quality);
    // The same loop as counts of an input that reads 4 mA as 800 and 20 mA as 4000.
    expect(rangeQuality(milliamperes * 200, pairs(800, 4000, 0, 100, 'liveZero'))).toBe(quality);
  });

  test('ends: beyond either end of the raw pair', () => {
    const point = pairs(0, 1000, 0, 10, 'ends');
    expect([-1, 0, 1000, 1001].map((raw) => rangeQuality(raw, point))).toEqual([
      Quality.underRange,
      0,
      0,
      Quality.overRange,
    ]);
    expect(rangeQuality(5000, pairs(0, 1000, 0, 10))).toBe(0);
  });
});

describe('deadband', () => {
  test('per cent of span in units and in counts', () => {
    // 2 % of 0 to 16 bar is 0.32 bar, and 81.9 of 4095 counts.
    const point = pairs(0, 4095, 0, 16);
    expect(deadbandInUnits({ value: 2, of: 'percentOfSpan' }, point)).toBeCloseTo(0.32, 12);
    expect(deadbandInCounts({ value: 2, of: 'percentOfSpan' }, point)).toBeCloseTo(81.9, 9);
    expect(deadbandInUnits({ value: 2, of: 'percentOfSpan' }, { ...point, pairs: null })).toBeNull();
    expect(
      deadbandInCounts({ value: 0.5, of: 'absolute' }, { gain: -0.025, offset: 0, pairs: null, range: 'none' }),
    ).toBe(20);
  });

  // Worked example: deadband 2, reported 10; 11.9 is kept back, 12 is reported, then counts from 12.
  test('a value is reported when it differs by at least the deadband', () => {
    let reported = 10;
    const sent = [10.5, 11.9, 12, 13.9, 14.1, 12.2, 12.1].filter((value) => {
      const send = exceedsDeadband(value, reported, 2);
      if (send) reported = value;
      return send;
    });
    expect(sent).toEqual([12, 14.1, 12.1]);
    expect(exceedsDeadband(5, 5, 0)).toBe(false);
    expect(exceedsDeadband(5.0001, 5, 0)).toBe(true);
  });
});

describe('limits', () => {
  const limits = (change: Partial<Limits> = {}): Limits => ({
    lowLow: 10,
    low: 20,
    high: 80,
    highHigh: 90,
    hysteresis: 2,
    delayMs: 0,
    ...change,
  });
  const levels = (watch: LimitWatch, values: number[]): (string | null)[] =>
    values.map((value, i) => {
      watch.take(value, i);
      return watch.level;
    });

  test('four levels, and back inside by more than the hysteresis', () => {
    expect(levels(new LimitWatch(limits()), [50, 80, 79, 78, 77.9, 91, 89, 87.9, 70, 20, 9, 11, 12.1, 22.1])).toEqual([
      null,
      'high',
      'high',
      'high',
      null,
      'highHigh',
      'highHigh',
      'high',
      null,
      'low',
      'lowLow',
      'lowLow',
      'low',
      null,
    ]);
  });

  test('a step from one side to the other leaves no level behind', () => {
    expect(levels(new LimitWatch(limits()), [95, 5, 95])).toEqual(['highHigh', 'lowLow', 'highHigh']);
  });

  test('the delay runs from the crossing, and begins anew when the value comes back', () => {
    const watch = new LimitWatch(limits({ delayMs: 1000 }));
    expect(watch.take(85, 0)).toBe(false);
    expect(watch.deadline).toBe(1000);
    expect(watch.wake(999)).toBe(false);
    expect(watch.take(50, 999)).toBe(false);
    expect(watch.deadline).toBeNull();
    watch.take(85, 2000);
    expect(watch.take(86, 2500)).toBe(false);
    expect(watch.wake(3000)).toBe(true);
    expect(watch.level).toBe('high');
    // Further out the delay counts again.
    expect(watch.take(95, 3100)).toBe(false);
    expect(watch.wake(4100)).toBe(true);
    expect(watch.level).toBe('highHigh');
    expect(watch.take(50, 4200)).toBe(true);
    expect(watch.level).toBeNull();
  });

  test('levels that are not set watch nothing', () => {
    const watch = new LimitWatch(limits({ lowLow: null, low: null, highHigh: null }));
    expect(levels(watch, [-100, 85, 200, 50])).toEqual([null, 'high', 'high', null]);
    expect(inOrder(limits())).toBe(true);
    expect(inOrder(limits({ low: 5 }))).toBe(false);
    expect(inOrder(limits({ low: null, lowLow: 79 }))).toBe(true);
  });
});
