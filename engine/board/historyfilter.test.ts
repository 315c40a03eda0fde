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
  const state = {
    passOn: true,
    reading: null,
    origin: null,
    deadband: 0,
    recalled: null,
  };
  return { id, device: 'D', address: addressOf(config), config, ...state };
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
  return readings.filter((one) => filter.wants(live(config), one, true)).map(({ time }) => time);
};

test('every reading, by default', () => {
  expect(kept(pointOf({}), [reading(1, 0), reading(1, 1), reading(1, 2)])).toEqual([0, 1, 2]);
});

test('by deadband: what has moved', () => {
  const filter = new HistoryFilter([]);
  const point = live(pointOf({ history: { mode: 'deadband' } }));
  expect([true, false, true].map((moved, at) => filter.wants(point, reading(at, at), moved))).toEqual([
    ...[true, false, true],
  ]);
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
  expect(filter.wants(live(follower), reading(5, 0), true)).toBe(true);
  expect(filter.wants(live(follower), reading(6, 1), true)).toBe(false);
});
