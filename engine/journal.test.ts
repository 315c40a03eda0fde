import { afterEach, beforeEach, expect, test, vi } from 'vitest';
import { Journal } from './journal.ts';

const NOW = Date.UTC(2096, 0, 1);
let journal: Journal;
beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  journal = new Journal();
});
afterEach(() => vi.useRealTimers());
const words = (): string[] => journal.take().map((entry) => entry.words);
const pass = (ms: number): void => void vi.advanceTimersByTime(ms);

test('what happened is there once, with when; whoever waits is told', () => {
  const changed = vi.fn();
  journal.onChange = changed;
  journal.note('D', 'plain', 'began');
  expect(changed).toHaveBeenCalledOnce();
  expect(journal.take()).toEqual([{ subject: 'D', tone: 'plain', words: 'began', time: NOW }]);
  expect(journal.take()).toEqual([]);
});

test('what is said over and over is said once a minute, with how often', () => {
  for (let n = 0; n < 3; n++) journal.note('D', 'warning', 'refused');
  journal.note('E', 'warning', 'refused');
  journal.note('D', 'warning', 'other');
  expect(words()).toEqual(['refused', 'refused', 'other']);
  pass(59_999);
  expect(words()).toEqual([]);
  pass(1);
  expect(words()).toEqual(['refused (2 more times)']);
  journal.note('D', 'warning', 'refused');
  expect(words()).toEqual(['refused']);
});

test('one more is one more; a minute later it is said anew', () => {
  journal.note('D', 'plain', 'again');
  journal.note('D', 'plain', 'again');
  pass(60_000);
  journal.note('D', 'plain', 'again');
  expect(words()).toEqual(['again', 'again (1 more time)', 'again']);
});

test('each control is said', () => {
  for (let n = 0; n < 3; n++) journal.note('D', 'control', 'trip by ada, confirmed');
  expect(words()).toHaveLength(3);
});

test('a subject of which more is said than anybody reads is summed up; what is controlled is not', () => {
  for (let n = 0; n < 300; n++) journal.note('D', 'warning', `line ${n}`);
  journal.note('E', 'warning', 'beside it');
  journal.note('D', 'control', 'trip by ada, confirmed');
  expect(words()).toEqual([
    ...Array.from({ length: 60 }, (_, n) => `line ${n}`),
    'beside it',
    'trip by ada, confirmed',
  ]);
  pass(60_000);
  journal.note('D', 'warning', 'later');
  expect(words()).toEqual(['and 240 more lines about it in a minute', 'later']);
  pass(60_000);
  expect(words()).toEqual([]);
});

test('of many changes of state in one second some are kept, and the rest counted', () => {
  for (let n = 0; n < 9; n++) journal.noteChange('D', `change ${n}`, NOW - n);
  expect(journal.take().map(({ words: said, time }) => [said, time])).toEqual(
    [0, 1, 2, 3, 4].map((n) => [`change ${n}`, NOW - n]),
  );
  pass(1000);
  journal.noteChange('D', 'next', NOW);
  expect(words()).toEqual(['and 4 more changes of state in that second', 'next']);
});

test('has a bound, and what could not be written stands in front again', () => {
  for (let n = 0; n < 600; n++) journal.note(`D${n % 20}`, 'plain', `line ${n}`);
  const taken = journal.take();
  expect(taken).toHaveLength(500);
  journal.note('D', 'plain', 'later');
  journal.giveBack(taken.slice(0, 2));
  expect(words()).toEqual(['line 0', 'line 1', 'later']);
  journal.note('D', 'plain', 'last');
  journal.giveBack(taken);
  expect(journal.take()).toHaveLength(500);
});

test('what was said last of thousands of things is forgotten, not what is said now', () => {
  for (let n = 0; n < 5000; n++) journal.note(n < 4999 ? `${n}` : 'D', 'plain', `line ${n}`);
  journal.take();
  // Five thousand are remembered; one more makes room.
  journal.note('D', 'plain', 'line 4999');
  expect(words()).toEqual([]);
  journal.note('D', 'plain', 'line 5000');
  journal.note('D', 'plain', 'line 4999');
  journal.note('D', 'plain', 'line 5000');
  expect(words()).toEqual(['line 5000', 'line 4999']);
});
