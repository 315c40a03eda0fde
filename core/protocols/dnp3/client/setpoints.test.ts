import { expect, test } from 'vitest';
import { Loop } from '../trials/loop.ts';
import type { OutstationPoint } from '../server/pointtable.ts';

const point = (kind: OutstationPoint['kind'], index: number, more: Partial<OutstationPoint> = {}): OutstationPoint => ({
  kind,
  index,
  class: 1,
  staticVariation: kind === 'analog' || kind === 'setpoint' ? 1 : 2,
  eventVariation: kind === 'analog' || kind === 'setpoint' ? 3 : 2,
  deadband: 0,
  ...more,
});
const read = (loop: Loop): string[] =>
  loop.masterEffects.flatMap((effect) =>
    effect.type === 'readings'
      ? effect.readings.map((r) => `${r.event ? 'event' : 'static'} ${r.kind} ${r.index} ${r.value}`)
      : [],
  );

test('another list: what stays keeps its value and its events, what goes takes its events along', () => {
  const loop = new Loop([point('analog', 0), point('analog', 1)], {
    class1PeriodMs: 0,
    class2PeriodMs: 0,
    class3PeriodMs: 0,
  });
  const set = (kind: OutstationPoint['kind'], index: number, value: number): void =>
    loop.toOutstation({ type: 'update', updates: [{ kind, index, value, flags: 1, time: loop.now }] });
  set('analog', 0, 5);
  set('analog', 1, 6);
  loop.toOutstation({ type: 'setPoints', points: [point('analog', 0), point('doubleBit', 2), point('setpoint', 3)] });
  set('doubleBit', 2, 2);
  set('setpoint', 3, -70_000);
  loop.connect();
  loop.pass(1000);
  const seen = read(loop);
  expect(seen).toContain('event analog 0 5');
  expect(seen).toContain('static analog 0 5');
  expect(seen).toContain('event doubleBit 2 2');
  expect(seen).toContain('static setpoint 3 -70000');
  expect(seen.some((text) => text.includes('analog 1'))).toBe(false);
  expect(loop.outstation.events.size).toBe(0);
});

test.each([
  ['done', 0, 'operated', undefined],
  ['refused', 4, 'failed', 'the device refused: parameter error'],
] as const)('an octet string is written once, and %s', (_what, status, step, words) => {
  const loop = new Loop([{ ...point('text', 300), staticVariation: 1, eventVariation: 1 }], {});
  loop.connect();
  loop.pass(500);
  loop.decide = () => [status];
  const block = { code: 0, count: 0, onMs: 0, offMs: 0 };
  loop.toMaster({
    ...{ type: 'control', id: 'w', index: 300, block, text: 'Köln 2', mode: 'direct' },
    expiresAt: loop.now + 5000,
  });
  loop.pass(100);
  const asked = loop.outstationEffects.flatMap((effect) => (effect.type === 'control' ? [effect] : []));
  expect(asked.map(({ phase, items }) => [phase, items.map(({ index, text }) => [index, text])])).toEqual([
    ['direct', [[300, 'Köln 2']]],
  ]);
  loop.pass(500);
  const steps = loop.masterEffects.flatMap((effect) => (effect.type === 'control' ? [effect] : []));
  expect(steps.map((one) => one.step)).toEqual(['operateSent', step]);
  expect(steps.at(-1)).toMatchObject(words === undefined ? {} : { words });
});

test('a survey reads everything once, and says when the device does not answer', () => {
  const loop = new Loop([point('analog', 0)], { responseTimeoutMs: 500, retries: 0 });
  loop.toMaster({ type: 'survey', id: 'early' });
  loop.connect();
  loop.pass(500);
  loop.toMaster({ type: 'survey', id: 'good' });
  loop.pass(3000);
  loop.wire = () => null;
  loop.toMaster({ type: 'survey', id: 'late' });
  loop.pass(10_000);
  loop.toMaster({ type: 'survey', id: 'cut' });
  loop.disconnect();
  const ended = loop.masterEffects.flatMap((e) => (e.type === 'surveyed' ? [`${e.id}: ${e.problem}`] : []));
  expect(ended).toEqual([
    'early: the device does not answer',
    'good: null',
    'late: the device does not answer',
    'cut: the device does not answer',
  ]);
});
