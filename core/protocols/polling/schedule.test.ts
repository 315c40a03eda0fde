import { expect, test } from 'vitest';
import { PollSchedule } from './schedule.ts';

const NOW = 1_700_000_000_000;
const PERIODS = { integrity: 60_000, class1: 1000, class2: 30_000, class3: 0 };

test('the first round is a period away, of long ones a part of it; then each keeps to its grid', () => {
  const whole = new PollSchedule(PERIODS, NOW);
  expect([whole.at('integrity'), whole.at('class1'), whole.at('class2'), whole.at('class3')]).toEqual([
    ...[NOW + 60_000, NOW + 1000, NOW + 30_000, null],
  ]);
  const part = new PollSchedule(PERIODS, NOW, 0.25);
  expect([part.at('integrity'), part.at('class1'), part.at('class2')]).toEqual([
    ...[NOW + 15_000, NOW + 1000, NOW + 7500],
  ]);
  part.advance('class2', NOW + 7600);
  expect(part.at('class2')).toBe(NOW + 37_500);
  part.restart(NOW + 100_000);
  expect(part.at('class2')).toBe(NOW + 107_500);
});

test('rounds that were missed are left out', () => {
  const polls = new PollSchedule(PERIODS, NOW);
  polls.advance('class1', NOW + 4200);
  expect(polls.at('class1')).toBe(NOW + 5000);
  expect([polls.earliest, polls.dueSince('class1', NOW + 4999), polls.dueSince('class1', NOW + 5001)]).toEqual([
    ...[NOW + 5000, null, NOW + 5000],
  ]);
});
