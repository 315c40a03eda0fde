import { expect, test } from 'vitest';
import { compared, type Marked } from './reports.ts';

const message = (key: string, time: number, values: Record<string, string>): Marked => ({
  ...{ key, time, words: '', values: Object.entries(values) },
});

test('marked messages stand side by side, the oldest first, with what is another value than before', () => {
  const { messages, rows } = compared([
    message('9', 300, { A: '1', C: '7' }),
    message('7', 100, { A: '1', B: '2' }),
    message('8', 200, { A: '3' }),
  ]);
  expect(messages.map(({ key }) => key)).toEqual(['7', '8', '9']);
  expect(rows).toEqual([
    { name: 'A', values: ['1', '3', '1'], changed: [1, 2] },
    { name: 'B', values: ['2', null, null], changed: [] },
    { name: 'C', values: [null, null, '7'], changed: [] },
  ]);
});

test('a value is compared with the last one that was said, over messages without it', () => {
  const { rows } = compared([message('1', 1, { A: '1' }), message('2', 2, { B: '1' }), message('3', 3, { A: '2' })]);
  expect(rows[0]).toEqual({ name: 'A', values: ['1', null, '2'], changed: [2] });
});

test('of one moment the one that came first stands first; of none there is nothing', () => {
  const { messages } = compared([message('10', 5, {}), message('9', 5, {})]);
  expect(messages.map(({ key }) => key)).toEqual(['9', '10']);
  expect(compared([])).toEqual({ messages: [], rows: [] });
});
