import type { PointConfig } from '@halvix/core/config';
import { pointSchema } from '@halvix/core/config';
import { type Reading } from '@halvix/core/point';
import { addressOf } from '@halvix/core/protocols';
import { expect, test } from 'vitest';
import type { LivePoint } from './exchange.ts';
import { HistoryFilter } from './historyfilter.ts';

const pointOf = (fields: object): PointConfig =>
  pointSchema.parse({ kind: 'analog', at: { protocol: 'dnp3', index: 0 }, name: 'x', ...fields });
const live = (config: PointConfig, id = 1): LivePoint => {
  return { id, device: 'D', address: addressOf(config), config, passOn: true, reading: null, origin: null };
};
const reading = (value: number, time: number, quality = 0): Reading => ({
  raw: value,
  value,
  quality,
  time,
  timeSource: 'device',
  received: time,
  cause: 'event',
});
const kept = (config: PointConfig, readings: Reading[]): number[] => {
  const filter = new HistoryFilter([config]);
  return readings.filter((one) => filter.wants(live(config), one)).map(({ time }) => time);
};

test('every reading, by default', () => {
  expect(kept(pointOf({}), [reading(1, 0), reading(1, 1), reading(1, 2)])).toEqual([0, 1, 2]);
});

test('by deadband, from what was kept last; a change of quality always', () => {
  const config = pointOf({ history: { mode: 'deadband' }, deadband: { value: 2 } });
  const readings = [
    reading(10, 0),
    reading(11.9, 1),
    reading(12, 2),
    reading(13, 3),
    reading(13, 4, 4),
    reading(13, 5, 4),
  ];
  expect(kept(config, readings)).toEqual([0, 2, 4]);
});

test('by deadband in per cent of the span', () => {
  const config = pointOf({
    history: { mode: 'deadband' },
    deadband: { value: 10, of: 'percentOfSpan' },
    pairs: { rawLow: 0, rawHigh: 100, low: 0, high: 50 },
  });
  expect(kept(config, [reading(0, 0), reading(4.9, 1), reading(5, 2)])).toEqual([0, 2]);
});

test('at an interval', () => {
  const config = pointOf({ history: { mode: 'interval', everyMs: 1000 } });
  expect(
    kept(
      config,
      [0, 400, 999, 1000, 1500, 2100].map((time) => reading(time, time)),
    ),
  ).toEqual([0, 1000, 2100]);
});

test('when the trigger rises: not at its first sight, not when it falls', () => {
  const follower = pointOf({ history: { mode: 'trigger', point: 'BI 3' } });
  const trigger = pointOf({ kind: 'binary', at: { protocol: 'dnp3', index: 3 } });
  const filter = new HistoryFilter([follower, trigger]);
  const of = (value: number): number => filter.triggeredBy(live(trigger, 2), reading(value, 0)).length;
  expect([1, 0, 1, 1, 0, 1].map(of)).toEqual([0, 0, 1, 0, 0, 1]);
  expect(filter.triggeredBy(live(follower), reading(5, 0))).toEqual([]);
  expect(filter.wants(live(follower), reading(5, 0))).toBe(true);
  expect(filter.wants(live(follower), reading(6, 1))).toBe(false);
});
