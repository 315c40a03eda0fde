import { expect, test } from 'vitest';
import type { MasterSettings } from '../settings.ts';
import type { Quirks } from './model/device.ts';
import { ODDITIES, tryOddity } from './model/quirks.ts';
import { ModelTrial } from './model/trial.ts';

test('there are enough of them, each with a name of its own', () => {
  expect(ODDITIES.length).toBeGreaterThanOrEqual(80);
  expect(new Set(ODDITIES.map(({ name }) => name)).size).toBe(ODDITIES.length);
});

test.each(ODDITIES)('a device with: $name', (oddity) => expect(tryOddity(oddity)).toEqual([]));

test('points of an object that a device does not have are told as such, and no others', () => {
  const trial = new ModelTrial(
    { noClasses: true, unknownGroups: [30] },
    { integrityPeriodMs: 10_000, class1PeriodMs: 1000 },
  );
  trial.connect();
  trial.pass(60_000);
  const told = trial.effects.flatMap((one) => (one.type === 'unreadable' ? [one.points] : []));
  expect(told).toEqual([[3, 4]]);
});

test.each<[string, Quirks, Partial<MasterSettings>]>([
  ['knows no classes', { noClasses: true }, {}],
  ['has no class of those that are polled', { unknownClasses: [1, 2] }, { class1PeriodMs: 1000, class2PeriodMs: 2000 }],
  ['has no event class at all', { unknownClasses: [1, 2, 3] }, {}],
  ['is asked by object', { beforeOfClasses: [200, 9, 0x17, 1, 0, 1, 2, 3] }, {}],
  ['brings nothing by object', { behind: [200, 9, 0x17, 1, 0, 1, 2, 3], eventsByObject: 'nothing' }, {}],
])('a device that %s is polled on after a pause of the process', (_what, quirks, settings) => {
  const trial = new ModelTrial(quirks, { integrityPeriodMs: 60_000, ...settings });
  trial.connect();
  trial.pass(30_000);
  // An hour in which nobody was woken: everything is overdue by as much.
  trial.now += 3_600_000;
  const before = trial.device.reads;
  trial.pass(20_000);
  const reads = trial.device.reads - before;
  expect(reads).toBeGreaterThan(4);
  expect(reads).toBeLessThan(1000);
});

test('a device that closes its connection at function 21 is polled without it, and the cause is named', () => {
  const trial = new ModelTrial({}, { class1PeriodMs: 1000 });
  const closes = (): boolean => trial.device.requests.at(-1) === 21;
  for (let n = 0; n < 6; n++) {
    trial.connect();
    // It closes before it answers.
    for (let ms = 0; ms < 3000 && !closes(); ms++) trial.pass(1);
    if (closes()) {
      trial.device.requests.length = 0;
      trial.disconnect();
      trial.pass(500);
    } else {
      trial.pass(3000);
      break;
    }
  }
  const last = trial.effects.findLast((effect) => effect.type === 'communication');
  expect(last).toMatchObject({ state: 'answering' });
  expect(trial.effects).toContainEqual({
    type: 'diagnostic',
    words: 'closes the connection at: disable unsolicited; it is polled without',
  });
  expect(trial.master.learned).toContain('it closes the connection at: ');
});
