import { dnp3At } from '@halvix/core/protocols/dnp3';
import { expect, test } from 'vitest';
import { detailWords, expectedOf, progressOf, setWords, wantedProblem, wantedWords } from './control.ts';
import type { PointView } from './server/points.ts';
import type { CommandView } from './live/topics.ts';

const COMMAND: CommandView = {
  id: 'x',
  pointId: 1,
  device: 'D',
  address: 'BO 0',
  operation: 'trip',
  counts: null,
  mode: 'selectOperate',
  onMs: 500,
  offMs: 250,
  count: 1,
  requestedBy: 'olga',
  state: 'requested',
  status: null,
  words: null,
  requested: 10,
  expires: 99,
  sent: null,
  selected: null,
  operated: null,
  confirmed: null,
  ended: null,
};
const states = (over: Partial<CommandView>): string[] =>
  progressOf({ ...COMMAND, ...over }, true).map(({ state }) => state);

test('the steps of a control as they come', () => {
  expect(states({})).toEqual(['done', 'now', 'later', 'later', 'later']);
  expect(states({ sent: 11, selected: 12 })).toEqual(['done', 'done', 'done', 'now', 'later']);
  expect(states({ sent: 11, selected: 12, operated: 13, confirmed: 14, ended: 14, state: 'confirmed' })).toEqual([
    'done',
    'done',
    'done',
    'done',
    'done',
  ]);
});

test("a refusal ends the list with the device's status", () => {
  const steps = progressOf(
    { ...COMMAND, sent: 11, ended: 12, state: 'refused', status: 7, words: 'the device is in local' },
    true,
  );
  expect(steps.at(-1)).toEqual({
    words: 'Refused by the device: status 7, the device is in local',
    time: 12,
    state: 'failed',
  });
  expect(steps).toHaveLength(3);
});

const SETTING = {
  ...{ low: 0.5, high: 4, feedback: null, tolerance: 0, feedbackWithinMs: 10_000 },
  follows: { name: 'Level wanted', pointId: 7, unit: 'm' },
};
const LEVEL: PointView = {
  ...{
    id: 7,
    device: 'SKA',
    kind: 'setpoint',
    at: { ...dnp3At(0), sentAs: 'int16' },
    address: 'AO 0',
    name: 'Level wanted',
    unit: 'm',
  },
  ...{ gain: 0.001, offset: 0, states: null, control: null, setting: SETTING },
};

test('a setpoint in words, with what is sent for it', () => {
  const wanted = { operation: 'set', value: 2.65 } as const;
  expect(wantedProblem(wanted, LEVEL)).toBeNull();
  expect(wantedWords(wanted, LEVEL)).toBe('Set to 2.65 m');
  expect(detailWords(wanted, LEVEL)).toBe('2650 counts, as int16');
  const between = { operation: 'set', value: 2.65049 } as const;
  expect(wantedWords(between, LEVEL)).toBe('Set to 2.650 m');
  expect(detailWords(between, LEVEL)).toBe('2650 counts, as int16, rounded to 2.650 m');
  expect(expectedOf(between, LEVEL)?.value).toBe('2.650 m');
  expect(expectedOf(wanted, LEVEL)).toEqual({ name: 'Level wanted', value: '2.65 m' });
  expect(setWords(2650, { ...LEVEL, pairs: null, range: 'none' })).toBe('Set to 2.650 m');
  expect(wantedProblem({ operation: 'set', value: null }, LEVEL)).toBe('Value: a number in m');
  expect(wantedProblem({ operation: 'set', value: 7 }, LEVEL)).toContain('7 is above its highest, 4 m');
});

test('a pulse names the field and the limit that it breaks', () => {
  const pulse = { operation: 'pulseOn', onMs: 500, offMs: 250, count: 1 } as const;
  const point = { ...LEVEL, setting: null };
  expect(wantedProblem(pulse, point)).toBeNull();
  expect(detailWords(pulse, point)).toBe('500 ms on, 250 ms off, once');
  expect(wantedProblem({ ...pulse, onMs: -1 }, point)).toBe('On time: -1 is not from 0 to 600 000 ms');
  expect(wantedProblem({ ...pulse, count: 300 }, point)).toBe('Count: 300 is not from 1 to 255');
  expect(expectedOf(pulse, point)).toBeNull();
});

test('without an answer nothing is claimed but what the feedback point shows', () => {
  const mode = 'directNoAnswer';
  const words = progressOf({ ...COMMAND, mode, state: 'confirmed', sent: 20, confirmed: 900, ended: 900 }, true);
  expect(words.map(({ words: one }) => one)).toEqual([
    'Requested by olga',
    'Sent to the device',
    'Confirmed by the feedback point',
  ]);
});
