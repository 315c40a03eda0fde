import { browser } from '$app/environment';
import type { DeviceObject } from '@halvix/core/config';
import { untrack } from 'svelte';
import { problemsOf } from '../check.ts';
import {
  byCode,
  columnsFor,
  FOLDED,
  GRID_COLUMNS,
  NO_PROBLEMS,
  passing,
  placesById,
  rangeOf,
  sortedView,
  type GridColumn,
  type GridFilter,
  type MappedWords,
  type PointRow,
  type Problems,
} from './grid.ts';

/** What the grid shows points of. */
export interface GridSource {
  rows: PointRow[];
  complete: boolean;
  mapped: MappedWords;
  /** The device that the list is of; null: all. */
  device: string | null;
  devices: DeviceObject[];
}

const STORE = 'halvix-point-columns';
const CHECK_AFTER_MS = 350;
/** Of the row numbers. */
export const GUTTER = 54;

function rememberedColumns(): string[] | null {
  try {
    const kept: unknown = browser ? JSON.parse(localStorage.getItem(STORE) ?? 'null') : null;
    return Array.isArray(kept) ? kept.map(String) : null;
  } catch {
    return null;
  }
}

/**
 * Which rows and columns of a point list are seen, in which order, and which cells are marked. To be made while a
 * component is.
 */
export class GridView {
  kind = $state('all');
  problem = $state<GridFilter['problem']>('all');
  filters = $state<Record<string, string>>({});
  filtering = $state(false);
  sorting = $state<{ key: string; down: boolean } | null>(null);
  private hidden = $state<readonly string[]>(rememberedColumns() ?? FOLDED);
  problems = $state.raw<Problems>(NO_PROBLEMS);
  active = $state({ row: 0, column: 0 });
  anchor = $state({ row: 0, column: 0 });
  /** Columns that stay as they are, whatever happens: those of an open cell. */
  held = $state.raw<readonly GridColumn[] | null>(null);

  constructor(private readonly source: () => GridSource) {
    this.findProblems();
    this.followColumns();
    this.followRows();
    // The view became shorter: stay within it.
    $effect(() => {
      const last = Math.max(0, this.view.length - 1);
      untrack(() => {
        if (this.active.row > last) this.active = { ...this.active, row: last };
        if (this.anchor.row > last) this.anchor = { ...this.anchor, row: last };
      });
    });
  }

  readonly rows = $derived.by(() => this.source().rows);
  readonly byCode = $derived.by(() => byCode(this.source().devices));
  readonly lookups = $derived.by(() => ({ mapped: this.source().mapped, problems: this.problems }));

  // ---- columns

  /** Columns of protocols that no device here speaks are not offered. */
  readonly offered = $derived.by(() => {
    const { device, devices } = this.source();
    const shown = devices.filter(({ code }) => device === null || code === device);
    return columnsFor(shown.map(({ protocol }) => protocol));
  });
  private readonly arranged = $derived.by(() => {
    const { device } = this.source();
    const shown = this.offered.filter(({ key }) => this.isShown(key) && !(key === 'device' && device !== null));
    // While something is wrong it stands beside the name, where it is seen.
    const at = shown.findIndex(({ key }) => key === 'problem');
    const name = shown.findIndex(({ key }) => key === 'name');
    if (this.problems.size > 0 && at > 0 && name >= 0) shown.splice(name + 1, 0, ...shown.splice(at, 1));
    return shown;
  });
  readonly columns = $derived.by(() => this.held ?? this.arranged);
  readonly width = $derived.by(() => this.columns.reduce((sum, column) => sum + column.width, GUTTER));
  readonly lefts = $derived.by(() => {
    let at = GUTTER;
    return this.columns.map((column) => {
      const left = at;
      at += column.width;
      return left;
    });
  });

  isShown(key: string): boolean {
    return !this.hidden.includes(key);
  }

  choose({ key }: GridColumn): void {
    this.hidden = this.isShown(key) ? [...this.hidden, key] : this.hidden.filter((one) => one !== key);
    localStorage.setItem(STORE, JSON.stringify(this.hidden));
  }

  sortBy({ key }: GridColumn): void {
    if (this.sorting?.key !== key) this.sorting = { key, down: false };
    else this.sorting = this.sorting.down ? null : { key, down: true };
  }

  // ---- rows

  private readonly passed = $derived.by(() => {
    const columns = this.filtering ? this.filters : {};
    return passing(this.rows, GRID_COLUMNS, { columns, kind: this.kind, problem: this.problem }, this.lookups);
  });
  /** Places of the rows that are seen, in their order. */
  readonly view = $derived.by(() => {
    const { sorting } = this;
    const by = sorting && GRID_COLUMNS.find(({ key }) => key === sorting.key);
    return by ? sortedView(this.passed, this.rows, by, sorting.down, this.lookups) : this.passed;
  });
  readonly counts = $derived.by(() => {
    let [bad, odd, fixable] = [0, 0, 0];
    for (const own of this.problems.values()) {
      if (own.some(({ severity }) => severity === 'problem')) bad++;
      else odd++;
      if (own.some(({ fix }) => fix)) fixable++;
    }
    return { bad, odd, fixable };
  });

  filterProblems(problem: GridFilter['problem']): void {
    this.problem = this.problem === problem ? 'all' : problem;
  }

  // ---- what is marked

  readonly selection = $derived.by(() => rangeOf(this.active, this.anchor));
  readonly selected = $derived.by(() =>
    this.view.slice(this.selection.top, this.selection.bottom + 1).map((at) => this.rows[at]),
  );
  /** What a tool works on: the selected rows, or all that the filters leave when just one cell is marked. */
  readonly workedCount = $derived.by(() => (this.selected.length > 1 ? this.selected.length : this.view.length));
  worked(): PointRow[] {
    return this.selected.length > 1 ? this.selected : this.view.map((at) => this.rows[at]);
  }
  readonly activeRow = $derived.by((): PointRow | undefined => this.rows[this.view[this.active.row]]);
  readonly activeColumn = $derived.by((): GridColumn | undefined => this.columns[this.active.column]);
  readonly activeProblems = $derived.by(() => this.problems.get(this.activeRow?.id ?? -1) ?? []);

  mark(row: number, column: number, keepAnchor: boolean): void {
    this.active = {
      row: Math.max(0, Math.min(this.view.length - 1, row)),
      column: Math.max(0, Math.min(this.columns.length - 1, column)),
    };
    if (!keepAnchor) this.anchor = this.active;
  }

  markAll(): void {
    this.anchor = { row: 0, column: 0 };
    this.active = { row: Math.max(0, this.view.length - 1), column: this.columns.length - 1 };
  }

  // ---- what happens by itself

  /** Problems are found a moment after the last change, device by device. */
  private findProblems(): void {
    $effect(() => {
      const [list, known] = [this.rows, this.byCode];
      let superseded = false;
      const timer = setTimeout(() => {
        void problemsOf(list, known, () => superseded).then((found) => found && (this.problems = found));
      }, CHECK_AFTER_MS);
      return () => {
        superseded = true;
        clearTimeout(timer);
      };
    });
  }

  /** Columns moved or went: the marked cells stay with their columns. */
  private followColumns(): void {
    let arrangement: readonly GridColumn[] = untrack(() => this.columns);
    $effect.pre(() => {
      const [before, now] = [arrangement, this.columns];
      if (before === now) return;
      arrangement = now;
      untrack(() => {
        const placed = (cell: GridView['active']): GridView['active'] => {
          const at = now.findIndex(({ key }) => key === before[cell.column]?.key);
          return { ...cell, column: at >= 0 ? at : Math.max(0, Math.min(now.length - 1, cell.column)) };
        };
        [this.active, this.anchor] = [placed(this.active), placed(this.anchor)];
      });
    });
  }

  /** Rows came, went or moved, from here or from elsewhere: the marked cell stays with its row. */
  private followRows(): void {
    const listing = (): { rows: PointRow[]; view: readonly number[]; complete: boolean } => {
      return { rows: this.rows, view: this.view, complete: this.source().complete };
    };
    let listed = untrack(listing);
    $effect.pre(() => {
      const [before, now] = [listed, listing()];
      listed = now;
      if (before.rows === now.rows) return;
      untrack(() => {
        const { active, anchor } = this;
        // While the list is loading, nobody has chosen the first cell.
        if (!before.complete && active.row === 0) return;
        const id = (at: number): number | undefined => before.rows[before.view[at]]?.id;
        if (active.row === anchor.row && now.rows[now.view[active.row]]?.id === id(active.row)) return;
        const at = placesById(now.rows, now.view);
        const [one, other] = [at.get(id(active.row)), at.get(id(anchor.row))];
        if (one === undefined || other === undefined) return;
        this.active = { ...active, row: one };
        this.anchor = { ...anchor, row: other };
      });
    });
  }
}
