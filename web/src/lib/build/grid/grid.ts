import type { DraftPoint, PointProblem } from '@halvix/core/config';
import { POINT_FIELDS, type PointField } from '@halvix/core/pointlist';
import { addressOf, inAddressOrder, type ProtocolCode, pointsOf } from '@halvix/core/protocols';
import type { Held } from '../draft.svelte.ts';

/** A row of the point grid. */
export interface PointRow extends Held<DraftPoint> {
  /** Lower-case texts of its cells, by column, kept for as long as the row stays as it is: filters ask again and again. */
  lower?: Record<string, string>;
}

/** Where a point is mapped to, by device and address. */
export type MappedWords = ReadonlyMap<string, string>;

export interface GridColumn {
  key: string;
  title: string;
  width: number;
  /** The field that a cell edits; null: only shown. */
  field: PointField | null;
  numeric: boolean;
}

const WIDTHS: Record<string, number> = {
  kind: 52,
  index: 74,
  name: 190,
  description: 200,
  unit: 56,
  gain: 68,
  offset: 62,
  rawLow: 76,
  rawHigh: 76,
  low: 68,
  high: 68,
  range: 92,
  deadband: 78,
  states: 132,
  normal: 92,
  eventClass: 84,
  history: 86,
  operations: 112,
  onMs: 76,
  offMs: 76,
  feedback: 190,
  inService: 82,
};

/** Columns that are not shown until somebody asks for them. */
export const FOLDED: readonly string[] = [
  'description',
  'settable',
  'rawLow',
  'rawHigh',
  'low',
  'high',
  'range',
  'limit.lowLow',
  'limit.low',
  'limit.high',
  'limit.highHigh',
  'limit.hysteresis',
  'limit.delayMs',
  'normal',
  'history',
  'eventClass',
  'table',
  'order',
  'registers',
  'group',
  'block',
  'onMs',
  'offMs',
  'feedback',
  'sentAs',
  'setLow',
  'setHigh',
  'tolerance',
  'inService',
];

export const GRID_COLUMNS: readonly GridColumn[] = [
  { key: 'device', title: 'Device', width: 96, field: null, numeric: false },
  ...POINT_FIELDS.map((field) => ({
    key: field.key,
    title: field.title,
    width: WIDTHS[field.key] ?? 78,
    field,
    numeric: field.numeric ?? false,
  })),
  { key: 'mapped', title: 'Seen by', width: 150, field: null, numeric: false },
  { key: 'problem', title: 'Problem', width: 260, field: null, numeric: false },
];

/** The same where addresses are words. */
const WIDE_COLUMNS = GRID_COLUMNS.map((column) =>
  column.key === 'index' ? { ...column, width: 272, numeric: false } : column,
);

/** The columns that mean something for points of these protocols. */
export const columnsFor = (protocols: readonly ProtocolCode[]): readonly GridColumn[] =>
  (protocols.every((code) => pointsOf(code).isNumbered) ? GRID_COLUMNS : WIDE_COLUMNS).filter(
    ({ field }) => field?.protocols === undefined || field.protocols.some((one) => protocols.includes(one)),
  );

export const pointKey = (device: string, address: string): string => `${device} ${address}`;
const keyOf = ({ parent, document }: PointRow): string => pointKey(parent, addressOf(document));

/** Problems of the rows, by id; the worst first. */
export type Problems = ReadonlyMap<number, readonly PointProblem[]>;
export const NO_PROBLEMS: Problems = new Map();

export interface Lookups {
  mapped: MappedWords;
  problems: Problems;
}

export function cellText(row: PointRow, column: GridColumn, { mapped, problems }: Lookups): string {
  if (column.field) return column.field.text(row.document);
  switch (column.key) {
    case 'device':
      return row.parent;
    case 'mapped':
      return mapped.get(keyOf(row)) ?? 'nobody';
    default:
      return (problems.get(row.id) ?? []).map(({ words }) => words).join('; ');
  }
}

function lowerText(row: PointRow, column: GridColumn): string {
  row.lower ??= {};
  return (row.lower[column.key] ??= (column.field?.text(row.document) ?? row.parent).toLowerCase());
}

export interface GridFilter {
  /** By column key; an empty one filters nothing. `=x` asks for the whole cell. */
  columns: Readonly<Record<string, string>>;
  kind: string;
  problem: 'all' | 'problem' | 'any' | 'unmapped';
}

/** The places of the rows that pass, in order. */
export function passing(
  rows: readonly PointRow[],
  columns: readonly GridColumn[],
  filter: GridFilter,
  lookups: Lookups,
): number[] {
  const active = columns.flatMap((column) => {
    const wanted = (filter.columns[column.key] ?? '').trim().toLowerCase();
    if (wanted === '') return [];
    const whole = wanted.startsWith('=') ? wanted.slice(1).trim() : null;
    const live = column.key === 'mapped' || column.key === 'problem';
    return [{ column, test: (text: string) => (whole === null ? text.includes(wanted) : text === whole), live }];
  });
  const view: number[] = [];
  for (let at = 0; at < rows.length; at++) {
    const row = rows[at];
    if (filter.kind !== 'all' && row.document.kind !== filter.kind) continue;
    if (filter.problem !== 'all' && !wantedProblem(row, filter.problem, lookups)) continue;
    if (
      active.every(({ column, test, live }) =>
        test(live ? cellText(row, column, lookups).toLowerCase() : lowerText(row, column)),
      )
    )
      view.push(at);
  }
  return view;
}

function wantedProblem(row: PointRow, wanted: GridFilter['problem'], { problems, mapped }: Lookups): boolean {
  if (wanted === 'unmapped') return !mapped.has(keyOf(row));
  const own = problems.get(row.id);
  return own !== undefined && (wanted === 'any' || own.some(({ severity }) => severity === 'problem'));
}

const naturally = new Intl.Collator('en', { numeric: true });

/** Sorts places by a column; a number column by its numbers. */
export function sortedView(
  view: readonly number[],
  rows: readonly PointRow[],
  column: GridColumn,
  down: boolean,
  lookups: Lookups,
): number[] {
  const way = down ? -1 : 1;
  // Addresses are numbers or begin with letters: they are sorted as people read them.
  if (column.numeric && column.key !== 'index') {
    const values = new Map(view.map((at) => [at, Number.parseFloat(cellText(rows[at], column, lookups))]));
    const value = (at: number): number => {
      const one = values.get(at) ?? NaN;
      return Number.isNaN(one) ? Infinity : one;
    };
    return [...view].sort((a, b) => (value(a) - value(b)) * way || a - b);
  }
  const texts = new Map(view.map((at) => [at, cellText(rows[at], column, lookups)]));
  const textAt = (at: number): string => texts.get(at) ?? '';
  return [...view].sort(
    // What has none stands last where numbers are.
    (a, b) =>
      (column.numeric ? Number(textAt(a) === '') - Number(textAt(b) === '') : 0) ||
      naturally.compare(textAt(a), textAt(b)) * way ||
      a - b,
  );
}

/** The order in which lists come: device, kind, address. */
export const inListOrder = (a: PointRow, b: PointRow): number =>
  (a.parent < b.parent ? -1 : a.parent > b.parent ? 1 : 0) || inAddressOrder(a.document, b.document) || a.id - b.id;

export interface Range {
  top: number;
  bottom: number;
  left: number;
  right: number;
}

export const rangeOf = (a: { row: number; column: number }, b: { row: number; column: number }): Range => ({
  top: Math.min(a.row, b.row),
  bottom: Math.max(a.row, b.row),
  left: Math.min(a.column, b.column),
  right: Math.max(a.column, b.column),
});

export const rowWords = ({ parent, document }: PointRow): string => `${parent} ${addressOf(document) || 'no address'}`;

export const byCode = <One extends { code: string }>(items: readonly One[]): ReadonlyMap<string, One> =>
  new Map(items.map((one) => [one.code, one]));

/** Where in the view each row is, by its id. */
export const placesById = (
  rows: readonly PointRow[],
  view: readonly number[],
): ReadonlyMap<number | undefined, number> => new Map(view.map((row, place) => [rows[row].id, place]));
