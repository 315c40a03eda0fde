import type { Reading } from '@halvix/core/point';
import { beforeEach, describe, expect, test } from 'vitest';
import { LatestReadings } from './latest.ts';

const reading = (more: Partial<Reading> = {}): Reading => ({
  ...{ raw: 5, value: 2.5, quality: 0, time: 1000, timeSource: 'device', received: 1001, cause: 'event' },
  ...more,
});
let latest: LatestReadings;
beforeEach(() => {
  latest = new LatestReadings();
});

describe('a row', () => {
  test('gives back what was put, each time as an object of its own', () => {
    const row = latest.take();
    expect(latest.isThere(row)).toBe(false);
    expect(latest.of(row)).toBeNull();
    const all: Reading[] = [
      reading(),
      reading({ raw: 1e300, value: -1.7e308, time: 253_402_300_799_999, received: 0, timeSource: 'receiptDoubtful' }),
      reading({ quality: 0x4000_0001, cause: 'static', timeSource: 'receipt', limit: null }),
      reading({ limit: 'lowLow', cause: 'engine' }),
      reading({ limit: 'highHigh' }),
      reading({ text: 'NO 1' }),
      reading({ text: '' }),
      reading(),
    ];
    for (const one of all) {
      latest.put(row, one);
      expect(latest.of(row)).toStrictEqual(one);
      expect(latest.stored(row, 7)).toStrictEqual({ pointId: 7, ...one });
    }
    expect(latest.isThere(row)).toBe(true);
    expect(latest.of(row)).not.toBe(latest.of(row));
  });

  test('says the same when value, text and quality are the same, whatever its times', () => {
    const row = latest.take();
    expect(latest.says(row, reading({ raw: 0, quality: 0 }))).toBe(false);
    latest.put(row, reading({ text: 'on' }));
    expect(latest.says(row, reading({ text: 'on', time: 5, received: 6, cause: 'static' }))).toBe(true);
    expect(latest.says(row, reading({ text: 'off' }))).toBe(false);
    expect(latest.says(row, reading())).toBe(false);
    expect(latest.says(row, reading({ text: 'on', raw: 6 }))).toBe(false);
    expect(latest.says(row, reading({ text: 'on', quality: 1 }))).toBe(false);
    latest.setReceived(row, 77);
    expect(latest.of(row)).toMatchObject({ received: 77, time: 1000 });
  });

  test('knows its level, which may be set by itself', () => {
    const row = latest.take();
    expect(latest.limitOf(row)).toBeNull();
    latest.put(row, reading());
    expect(latest.limitOf(row)).toBeNull();
    for (const level of ['lowLow', 'low', 'high', 'highHigh', null] as const) {
      latest.setLimit(row, level);
      expect(latest.limitOf(row)).toBe(level);
      expect(latest.of(row)).toMatchObject({ limit: level });
    }
  });

  test('has moved by the deadband, by its quality, by its text; small steps add up', () => {
    const row = latest.take();
    const moves = (value: number, more: Partial<Reading> = {}, deadband = 1): boolean =>
      latest.move(row, reading({ value, ...more }), deadband);
    expect(moves(0)).toBe(true);
    expect(moves(0.6)).toBe(false);
    expect(moves(1.2)).toBe(true);
    expect(moves(1.2, {}, 0)).toBe(false);
    expect(moves(1.2, { quality: 1 })).toBe(true);
    expect(moves(1.2, { quality: 1, text: 'a' })).toBe(true);
    expect(moves(1.2, { quality: 1, text: 'a' })).toBe(false);
    expect(moves(1.2, { quality: 1 })).toBe(true);
  });

  test('that is released is another point’s, which has nothing yet', () => {
    const [first, second] = [latest.take(), latest.take()];
    for (const row of [first, second]) {
      latest.put(row, reading({ text: 'x', limit: 'high' }));
      latest.move(row, reading({ text: 'x' }), 0);
    }
    latest.release(first);
    const next = latest.take();
    expect(next).toBe(first);
    expect([latest.of(next), latest.limitOf(next), latest.isThere(next)]).toEqual([null, null, false]);
    expect(latest.move(next, reading({ text: 'x' }), 0)).toBe(true);
    latest.put(next, reading());
    expect(latest.of(next)).toStrictEqual(reading());
    expect(latest.of(second)).toMatchObject({ text: 'x', limit: 'high' });
  });
});

test('grows with the points, and loses nothing', () => {
  const rows = Array.from({ length: 5000 }, () => {
    const row = latest.take();
    latest.put(row, reading({ value: row + 0.5, raw: -row, time: row * 1e9, quality: row, limit: 'low' }));
    latest.move(row, reading({ value: row }), 0);
    return row;
  });
  expect(new Set(rows).size).toBe(5000);
  for (const row of rows) {
    expect(latest.of(row)).toStrictEqual(
      reading({ value: row + 0.5, raw: -row, time: row * 1e9, quality: row, limit: 'low' }),
    );
    expect(latest.move(row, reading({ value: row }), 0)).toBe(false);
  }
});
