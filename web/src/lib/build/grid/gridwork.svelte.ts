import type { DraftPoint, PointProblem } from '@halvix/core/config';
import { csvOf, series, tableOfPoints } from '@halvix/core/pointlist';
import { draft, type Change } from '../draft.svelte.ts';
import { download, downloadWorkbook } from '../forms.ts';
import { cellText, rowWords, type PointRow } from './grid.ts';
import type { GridView } from './gridview.svelte.ts';

export interface AddedPoint {
  device: string;
  point: DraftPoint;
}
export interface PointEdit {
  row: PointRow;
  document: DraftPoint | null;
}

const changeOf = ({ row, document }: PointEdit): Change => ({
  id: row.id,
  kind: 'point',
  parent: row.parent,
  expected: row.version,
  document,
});
const points = (count: number): string => `${count} ${count === 1 ? 'point' : 'points'}`;

/** What is done to the points of a grid: each of these is written whole, or not at all, and can be undone as one. */
export class GridWork {
  /** What came of it. */
  message = $state<{ words: string; bad: boolean } | null>(null);

  constructor(
    private readonly grid: GridView,
    /** Marks a cell and brings it into sight. */
    private readonly move: (row: number, column: number) => void,
  ) {}

  say(words: string, bad = false): void {
    this.message = { words, bad };
  }

  /** Returns what is wrong; null: it is done. */
  async change(label: string, edits: readonly PointEdit[]): Promise<string | null> {
    const real = edits.filter(({ row, document }) => document !== row.document);
    if (real.length === 0) return null;
    const outcome = await draft.change(
      label,
      real.map(changeOf),
      real.map(({ row }) => row.document),
    );
    if (outcome.ok) this.say(`${label}: ${points(real.length)}`);
    else this.say(outcome.words, true);
    return outcome.ok ? null : outcome.words;
  }

  /** Changes points and adds others, all of it or nothing. Returns what is wrong; null: it is done. */
  async takeOver(
    label: string,
    changed: readonly { row: PointRow; document: DraftPoint }[],
    added: readonly AddedPoint[],
  ): Promise<string | null> {
    const changes: Change[] = [
      ...changed.map(changeOf),
      ...added.map(({ device: parent, point: document }) => ({
        ...{ id: null, kind: 'point' as const, parent, expected: null, document },
      })),
    ];
    const outcome = await draft.change(
      label,
      changes,
      changed.map(({ row }) => row.document),
    );
    if (outcome.ok) this.say(`${label}: ${points(changes.length)}`);
    return outcome.ok ? null : outcome.words;
  }

  /** Sets cells of the selection, row by row and column by column; `value` gets the place within it. */
  async setCells(label: string, value: (row: number, column: number) => string | null): Promise<void> {
    const { selected, columns } = this.grid;
    const { top, left, right } = this.grid.selection;
    const edits: PointEdit[] = [];
    for (let i = 0; i < selected.length; i++) {
      const row = selected[i];
      let { document } = row;
      for (let c = left; c <= right; c++) {
        const column = columns[c];
        const text = column?.field ? value(i, c - left) : null;
        if (text === null || !column?.field || column.field.text(document) === text) continue;
        const set = column.field.set(document, text);
        if (!set.ok) {
          this.say(`${rowWords(row)}, ${column.title}: ${set.problem}. Nothing was changed.`, true);
          this.move(top + i, c);
          return;
        }
        document = set.value;
      }
      edits.push({ row, document });
    }
    await this.change(label, edits);
  }

  fillDown(): Promise<void> {
    const { selected, columns, lookups } = this.grid;
    const { left } = this.grid.selection;
    return this.setCells('fill down', (i, c) => (i === 0 ? null : cellText(selected[0], columns[left + c], lookups)));
  }

  /** Goes on with the cells that are filled, or with the first one. */
  fillSeries(): Promise<void> {
    const { selected, columns, lookups } = this.grid;
    const { left, right } = this.grid.selection;
    const continued: (string[] | undefined)[] = [];
    for (let c = left; c <= right; c++) {
      const column = columns[c];
      if (!column?.field) continue;
      const texts = selected.map((row) => cellText(row, column, lookups));
      const given = texts.slice(0, texts.length > 2 && texts[1] !== texts[0] && column.numeric ? 2 : 1);
      continued[c - left] = [...given, ...series(given, texts.length - given.length)];
    }
    return this.setCells('series', (i, c) => continued[c]?.[i] ?? null);
  }

  async removeRows(): Promise<void> {
    await this.change(
      'delete',
      this.grid.selected.map((row) => ({ row, document: null })),
    );
  }

  async fix(row: PointRow, { fix }: PointProblem): Promise<void> {
    if (fix) await this.change(fix.words, [{ row, document: { ...row.document, ...fix.set } }]);
  }

  /** The fix of every row that is seen and has one. */
  async fixAll(): Promise<void> {
    const { view, rows, problems } = this.grid;
    const edits = view.flatMap((at) => {
      const row = rows[at];
      const fixes = (problems.get(row.id) ?? []).flatMap(({ fix: one }) => one?.set ?? []);
      return fixes.length === 0 ? [] : [{ row, document: Object.assign({}, row.document, ...fixes) as DraftPoint }];
    });
    await this.change('mend', edits);
  }

  async copy(): Promise<void> {
    const { selected, columns, selection, lookups } = this.grid;
    const shown = columns.slice(selection.left, selection.right + 1);
    const lines = selected.map((row) =>
      shown.map((column) => cellText(row, column, lookups).replace(/[\t\n]/g, ' ')).join('\t'),
    );
    await navigator.clipboard.writeText(lines.join('\n'));
    this.say(`${selected.length} ${selected.length === 1 ? 'row' : 'rows'} copied`);
  }

  /** The rows that are seen, as a file. */
  async exportAs(form: 'csv' | 'xlsx', device: string | null): Promise<void> {
    const { view, rows } = this.grid;
    const table = tableOfPoints(view.map((at) => ({ device: rows[at].parent, point: rows[at].document })));
    const name = `halvix-points${device === null ? '' : `-${device}`}`;
    if (form === 'csv') download(`${name}.csv`, `\ufeff${csvOf(table)}`, 'text/csv;charset=utf-8');
    else await downloadWorkbook(`${name}.xlsx`, table);
  }
}
