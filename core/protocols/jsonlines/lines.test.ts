import { expect, test } from 'vitest';
import { Quality } from '../../point/index.ts';
import type { ToldValue } from '../publishing/form.ts';
import { lines } from './lines.ts';
import { settings } from './settings.ts';
import { address, targetAtSchema, targets } from './target.ts';

const told: ToldValue = {
  ...{ number: 7, address: 'HLM-F1/AI 7', kind: 'analog', value: 10.5, text: null, quality: 0 },
  ...{ time: Date.UTC(2026, 10, 27, 6), unsynchronised: false, name: 'Voltage', unit: 'kV' },
};
const read = (values: ToldValue[], dropped = 0): object[] =>
  new TextDecoder()
    .decode(lines({ number: 7, values, dropped }))
    .split('\n')
    .slice(0, -1)
    .map((line) => JSON.parse(line) as object);

test('a packet is a line for each value, each an object that says what it has', () => {
  expect(
    read([told, { ...told, number: 8, name: '', unit: '', quality: Quality.commLost, unsynchronised: true }], 3),
  ).toEqual([
    {
      ...{ id: 7, packet: 7, dropped: 3, point: 'HLM-F1/AI 7', name: 'Voltage', value: 10.5, unit: 'kV' },
      ...{ quality: 'good', time: '2026-11-27T06:00:00.000Z' },
    },
    {
      ...{ id: 8, packet: 7, point: 'HLM-F1/AI 7', value: 10.5, quality: 'invalid', reasons: 'no communication' },
      ...{ time: '2026-11-27T06:00:00.000Z', clock: 'not set' },
    },
  ]);
});

test('what is no number is none, a text stands beside it, and a line feed in it ends no line', () => {
  const odd = read([
    { ...told, value: Number.NaN, text: 'one\ntwo' },
    { ...told, value: Number.POSITIVE_INFINITY },
  ]);
  expect(odd).toMatchObject([{ value: null, text: 'one\ntwo' }, { value: null }]);
});

test('is as many octets as it says, and the same for the same packet', () => {
  const packet = { number: 7, values: [told], dropped: 0 };
  expect(lines(packet)).toEqual(lines(structuredClone(packet)));
  expect(lines(packet).at(-1)).toBe(0x0a);
});

test.each(['../x', '/etc/x', 'a//b', 'a/../b', '.hidden', 'a/.b', 'a/', '', 'a\nb', 'a b', `${'x'.repeat(201)}`])(
  'a file %j is refused',
  (file) => expect(settings.safeParse({ file }).success).toBe(false),
);
test.each(['values.jsonl', 'a/b/c-1_2.txt', '2026'])('a file %j is taken', (file) =>
  expect(settings.parse({ file })).toMatchObject({ file, afterMs: 1000, mostValues: 1000, mostWaiting: 100_000 }),
);

test('a point is named by its device and address, with what a rule puts before it, and sorted by its numbers', () => {
  const source = { device: 'HLM-F1', point: 'AI 7' };
  expect(targets.propose('analog', 0, 'raw', {}, source).name).toBe('HLM-F1/AI 7');
  expect(targets.propose('analog', 0, 'raw', { prefix: ' north/ ' }, source).name).toBe('north/HLM-F1/AI 7');
  expect(targets.propose('analog', 3, 'raw', {}).name).toBe('analog 3');
  const sorted = ['a 10', 'a 9', 'a 100'].map((name) => ({
    kind: 'analog' as const,
    at: targetAtSchema.parse({ protocol: 'jsonlines', name }),
  }));
  sorted.sort((a, b) => (address.sort(a) < address.sort(b) ? -1 : 1));
  expect(sorted.map(({ at }) => at.name)).toEqual(['a 9', 'a 10', 'a 100']);
  expect(targetAtSchema.safeParse({ protocol: 'jsonlines', name: 'a\u0007' }).success).toBe(false);
});
