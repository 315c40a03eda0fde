import { expect, test } from 'vitest';
import { arranged, asTabbed, type Column } from './table.ts';

const columns: Column<{ name: string; value: number }>[] = [
  { key: 'name', title: 'Name', width: '1fr', text: (row) => row.name },
  { key: 'value', title: 'Value', width: '80px', text: (row) => `${row.value} A`, order: (row) => row.value },
];
const rows = [
  { name: 'Current L10', value: 9 },
  { name: 'Current L2', value: 10 },
  { name: 'Voltage', value: 2 },
];

test('filters by every column, sorts numbers as numbers and names as people do', () => {
  const names = (...given: [Record<string, string>, Parameters<typeof arranged>[3]]): string[] =>
    arranged(rows, columns, ...given).map((row) => row.name);
  expect(names({ name: 'curr' }, null)).toEqual(['Current L10', 'Current L2']);
  expect(names({ name: 'curr', value: '10' }, null)).toEqual(['Current L2']);
  expect(names({}, { key: 'name', down: false })).toEqual(['Current L2', 'Current L10', 'Voltage']);
  expect(names({}, { key: 'value', down: true })).toEqual(['Current L2', 'Current L10', 'Voltage']);
});

test('copies as tab-separated text', () =>
  expect(asTabbed(rows.slice(0, 1), columns)).toBe('Name\tValue\nCurrent L10\t9 A'));
