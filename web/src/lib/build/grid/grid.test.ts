import { dnp3At } from '@halvix/core/protocols/dnp3';
import { expect, test } from 'vitest';
import { newPoint } from '@halvix/core/pointlist';
import { problemsOf } from '../check.ts';
import {
  cellText,
  GRID_COLUMNS,
  inListOrder,
  passing,
  rangeOf,
  rowWords,
  sortedView,
  type GridFilter,
  type PointRow,
} from './grid.ts';
import { mappedWords, mergedRows, targetsTwice } from './rows.ts';
import { mappingTo } from '@halvix/core/mapping';

const row = (id: number, kind: 'analog' | 'binary', index: number | null, name: string, parent = 'D1'): PointRow => ({
  id,
  kind: 'point',
  parent,
  version: 2,
  author: '',
  changed: 0,
  document: newPoint('dnp3', kind, index, name),
});
const ROWS = [
  row(1, 'binary', 0, 'Breaker'),
  row(2, 'analog', 10, 'Current L1'),
  row(3, 'analog', 9, 'Current L2'),
  row(4, 'analog', null, 'Lost'),
];
const LOOKUPS = { mapped: new Map([['D1 BI 0', 'QST BI 0']]), problems: new Map() };
const column = (key: string): (typeof GRID_COLUMNS)[number] => GRID_COLUMNS.find((one) => one.key === key)!;
const passed = (change: Partial<GridFilter>): number[] =>
  passing(ROWS, GRID_COLUMNS, { columns: {}, kind: 'all', problem: 'all', ...change }, LOOKUPS).map(
    (at) => ROWS[at].id,
  );

test('filters by what a cell has, by what it is, by kind and by what nobody sees', () => {
  expect(passed({ columns: { name: 'CURRENT' } })).toEqual([2, 3]);
  expect(passed({ columns: { index: '=9' } })).toEqual([3]);
  expect(passed({ columns: { index: '9', name: 'l1' } })).toEqual([]);
  expect(passed({ kind: 'binary' })).toEqual([1]);
  expect(passed({ problem: 'unmapped' })).toEqual([2, 3, 4]);
  expect(passed({ columns: { mapped: 'qst' } })).toEqual([1]);
});

test('sorts numbers by their size and puts what has none last', () => {
  const sorted = (key: string, down: boolean): number[] =>
    sortedView([0, 1, 2, 3], ROWS, column(key), down, LOOKUPS).map((at) => ROWS[at].id);
  expect(sorted('index', false)).toEqual([1, 3, 2, 4]);
  expect(sorted('name', true)).toEqual([4, 3, 2, 1]);
});

test('cells, places and ranges in words', () => {
  expect(cellText(ROWS[0], column('mapped'), LOOKUPS)).toBe('QST BI 0');
  expect(cellText(ROWS[1], column('mapped'), LOOKUPS)).toBe('nobody');
  expect(cellText(ROWS[1], column('device'), LOOKUPS)).toBe('D1');
  expect(ROWS.map(rowWords)).toEqual(['D1 BI 0', 'D1 AI 10', 'D1 AI 9', 'D1 no address']);
  expect([...ROWS].sort(inListOrder).map(({ id }) => id)).toEqual([1, 3, 2, 4]);
  expect(rangeOf({ row: 5, column: 1 }, { row: 2, column: 3 })).toEqual({ top: 2, bottom: 5, left: 1, right: 3 });
});

test('problems are found by the id of the row, the worst first, unless somebody else has begun', async () => {
  const twice = [row(1, 'analog', 1, 'A'), row(2, 'analog', 1, 'A')];
  const found = await problemsOf(twice, new Map(), () => false);
  expect(found?.get(2)?.map(({ severity }) => severity)).toEqual(['problem', 'warning']);
  expect(found?.has(1)).toBe(false);
  const many = Array.from({ length: 5000 }, (_, i) => row(i, 'analog', i, `P${i}`));
  expect(await problemsOf(many, new Map(), () => true)).toBeNull();
  expect((await problemsOf(many, new Map(), () => false))?.size).toBe(0);
});

test('changed rows stay in their place, new ones come in order, deleted ones go', () => {
  const changed = [
    { ...ROWS[1], document: newPoint('dnp3', 'analog', 10, 'Changed') },
    { ...ROWS[2], document: null as never },
    row(9, 'analog', 5, 'New'),
  ];
  expect(mergedRows(ROWS, changed, inListOrder).map(({ id, document }) => `${id} ${document.name}`)).toEqual([
    '1 Breaker',
    '9 New',
    '2 Changed',
    '4 Lost',
  ]);
});

test('where points are seen, and targets that two share', () => {
  const mapping = (id: number, parent: string, index: number, target: number) => ({
    ...row(id, 'analog', 0, 'x'),
    kind: 'mapping' as const,
    parent,
    document: mappingTo({ device: 'D1', kind: 'analog' as const, at: dnp3At(index) }, 'dnp3', 'analog', target, 'raw'),
  });
  const list = [mapping(1, 'QST', 7, 7), mapping(2, 'AMB', 7, 3), mapping(3, 'QST', 8, 7)];
  expect(mappedWords(list).get('D1 AI 7')).toBe('QST AI 7, AMB AI 3');
  expect([...targetsTwice(list)]).toEqual(['AI 7']);
});
