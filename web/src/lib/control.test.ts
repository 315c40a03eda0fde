import { expect, test } from 'vitest';
import { progressOf } from './control.ts';
import type { CommandView } from './topics.ts';

const COMMAND: CommandView = {
  id: 'x',
  pointId: 1,
  device: 'D',
  index: 0,
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
