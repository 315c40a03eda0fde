/** A column of a data table. */
export interface Column<Row> {
  key: string;
  title: string;
  align?: 'left' | 'right';
  /** CSS width: `80px`, `1fr`. */
  width: string;
  mono?: boolean;
  /** The cell as text: for sorting without `order`, for filters and for copying. */
  text: (row: Row) => string;
  order?: (row: Row) => number | string;
  /** Not shown unless the person chose otherwise. */
  hidden?: boolean;
  /** Holds what can be done with the row: nothing to filter, sort or hide. */
  actions?: boolean;
}

export interface Sorting {
  key: string;
  down: boolean;
}

const compare = (a: number | string, b: number | string): number =>
  typeof a === 'number' && typeof b === 'number' ? a - b : String(a).localeCompare(String(b), 'en', { numeric: true });

/** The rows that pass every column's filter, in order. */
export function arranged<Row>(
  rows: readonly Row[],
  columns: readonly Column<Row>[],
  filters: Readonly<Record<string, string>>,
  sorting: Sorting | null,
): Row[] {
  const active = columns.flatMap((column) => {
    const wanted = (filters[column.key] ?? '').trim().toLowerCase();
    return wanted === '' ? [] : [{ column, wanted }];
  });
  const kept = rows.filter((row) =>
    active.every(({ column, wanted }) => column.text(row).toLowerCase().includes(wanted)),
  );
  const by = sorting && columns.find(({ key }) => key === sorting.key);
  if (!sorting || !by) return kept;
  const valueOf = by.order ?? by.text;
  return kept.sort((a, b) => compare(valueOf(a), valueOf(b)) * (sorting.down ? -1 : 1));
}

/** Rows as tab-separated text with a heading, as spreadsheets paste it. */
export const asTabbed = <Row>(rows: readonly Row[], columns: readonly Column<Row>[]): string =>
  [
    columns.map(({ title }) => title),
    ...rows.map((row) => columns.map(({ text }) => text(row).replace(/[\t\n]/g, ' '))),
  ]
    .map((cells) => cells.join('\t'))
    .join('\n');
