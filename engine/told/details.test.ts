import { expect, test } from 'vitest';
import { detailStateOf } from './details.ts';

const values = (count: number) => Array.from({ length: count }, (_, n) => [`P${n}`, '1'] as const);
const row = (key: string, counts: readonly number[]) => ({
  ...{ key, cells: [key] },
  past: counts.map((count, n) => ({ key: String(n), time: n, words: '', values: values(count) })),
});

test('what is shown is whole, with what was left out filled in', () => {
  const { tables } = detailStateOf([
    { key: 't', title: 'T', columns: ['C'], rows: [row('a', [2]), { key: 'b', cells: [''] }] },
  ]);
  expect(tables[0].rows[0]).toMatchObject({
    time: null,
    odd: [],
    more: null,
    past: [
      {
        key: '0',
        values: [
          ['P0', '1'],
          ['P1', '1'],
        ],
      },
    ],
  });
  expect(tables[0].rows[1].past).toEqual([]);
});

test('messages of many senders go out as far as there is room for them', () => {
  const rows = Array.from({ length: 60 }, (_, n) => row(String(n), [80, 80]));
  const { tables } = detailStateOf([{ key: 't', title: 'T', columns: ['C'], rows }]);
  const all = tables[0].rows.flatMap(({ past }) => past.flatMap((one) => one.values));
  expect(all.length).toBeLessThanOrEqual(3000);
  expect(all.length).toBeGreaterThan(2900);
  expect(tables[0].rows[0].past).toHaveLength(2);
});
