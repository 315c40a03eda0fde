import fc from 'fast-check';
import { expect, test } from 'vitest';
import { PollSchedule } from './polls.ts';

const periods = { integrity: 60_000, class1: 1000, class2: 5000, class3: 0 };

test('each poll is due a period after the start, and one of no period never', () => {
  const polls = new PollSchedule(periods, 100);
  expect(polls.at('integrity')).toBe(60_100);
  expect(polls.at('class3')).toBeNull();
  expect(polls.earliest).toBe(1100);
  expect(polls.dueSince('class1', 1099)).toBeNull();
  expect(polls.dueSince('class1', 1500)).toBe(1100);
  expect(polls.dueSince('class3', 1e12)).toBeNull();
  polls.restart(10_000);
  expect(polls.earliest).toBe(11_000);
});

test('a poll keeps to its grid however late it is, and rounds that were missed are left out', () =>
  fc.assert(
    fc.property(fc.array(fc.nat(20_000), { maxLength: 30 }), (pauses) => {
      const polls = new PollSchedule(periods, 0);
      let now = 0;
      for (const pause of pauses) {
        now += pause;
        if (polls.dueSince('class1', now) === null) continue;
        polls.advance('class1', now);
        const next = polls.at('class1') ?? -1;
        expect(next % 1000).toBe(0);
        expect(next).toBeGreaterThan(now);
        expect(next).toBeLessThanOrEqual(now + 1000);
      }
    }),
  ));

test('without any period there is nothing to wait for', () => {
  expect(new PollSchedule({ integrity: 0, class1: 0, class2: 0, class3: 0 }, 5).earliest).toBeNull();
});
