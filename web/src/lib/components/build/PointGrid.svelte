<script lang="ts">
  import { definitionOf } from '@halvix/core/protocols';
  import { browser } from '$app/environment';
  import type { DeviceObject, DraftPoint, PointProblem } from '@halvix/core/config';
  import { KIND_WORDS, POINT_KINDS } from '@halvix/core/point';
  import { csvOf, pointField, series, tableOfPoints } from '@halvix/core/pointlist';
  import { onMount, tick, untrack } from 'svelte';
  import { draft, type Change } from '$lib/build/draft.svelte.ts';
  import { download, downloadWorkbook } from '$lib/build/forms.ts';
  import { problemsOf } from '$lib/build/check.ts';
  import { readyForPaste } from '$lib/build/paste.ts';
  import {
    cellText,
    FOLDED,
    columnsFor,
    GRID_COLUMNS,
    passing,
    rangeOf,
    rowWords,
    sortedView,
    type GridColumn,
    type GridFilter,
    type MappedWords,
    type PointRow,
    type Problems,
  } from '$lib/build/grid.ts';
  import EditManyDialog from './EditManyDialog.svelte';
  import PasteDialog from './PasteDialog.svelte';
  import RenameDialog from './RenameDialog.svelte';
  import ReplaceDialog from './ReplaceDialog.svelte';
  import RunDialog from './RunDialog.svelte';

  /** The point list as a grid for 100 000 rows: only what is in sight is drawn, in cells that are used again. */
  interface Props {
    rows: PointRow[];
    total: number;
    complete: boolean;
    mapped: MappedWords;
    device: string | null;
    devices: DeviceObject[];
    mayBuild: boolean;
    unmap: (rows: readonly PointRow[]) => Promise<string | null>;
  }
  let { rows, total, complete, mapped, device, devices, mayBuild, unmap }: Props = $props();
  /** Devices whose addresses are numbers. */
  const numbered = $derived(devices.filter(({ protocol }) => definitionOf(protocol).points.isNumbered));

  interface Added {
    device: string;
    point: DraftPoint;
  }
  const ROW = 30;
  /**
   * Rows drawn beyond the edge that is scrolled to: as many as a fast wheel covers in a slow frame, since a frame shows
   * what was drawn before it. Just after the view changed only a few, more with each frame: a filter that is typed has little to
   * draw.
   */
  const AHEAD = { usual: 150, changed: 20, step: 10 };
  const GROWS_AFTER_MS = 150;
  const BEHIND = 10;
  const GUTTER = 54;
  const STORE = 'halvix-point-columns';
  const CHECK_AFTER_MS = 350;

  let scroller = $state<HTMLDivElement>();
  let editor = $state<HTMLInputElement>();
  let scrollTop = $state(0);
  let upwards = $state(false);
  /** How far ahead a view is drawn by now. */
  let grown = $state.raw<{ view: readonly number[]; rows: number } | null>(null);
  let viewport = $state(600);
  let headHeight = $state(58);
  let kind = $state('all');
  let problemFilter = $state<GridFilter['problem']>('all');
  let filters = $state<Record<string, string>>({});
  let filtering = $state(false);
  let choosing = $state(false);
  let exporting = $state(false);
  let sorting = $state<{ key: string; down: boolean } | null>(null);
  let active = $state({ row: 0, column: 0 });
  let anchor = $state({ row: 0, column: 0 });
  let editing = $state<string | null>(null);
  /** What the open cell was opened on: the row as it was seen then, its column, and the columns as they stood. */
  let opened = $state.raw<{ row: PointRow; column: GridColumn; columns: readonly GridColumn[] } | null>(null);
  let message = $state<{ words: string; bad: boolean } | null>(null);
  let dialog = $state<'paste' | 'run' | 'replace' | 'rename' | 'many' | null>(null);
  let pasted = $state('');
  let pastedFile = $state.raw<File | null>(null);
  let problems = $state.raw<Problems>(new Map());

  function remembered(): string[] | null {
    try {
      const kept: unknown = browser ? JSON.parse(localStorage.getItem(STORE) ?? 'null') : null;
      return Array.isArray(kept) ? kept.map(String) : null;
    } catch {
      return null;
    }
  }
  let hidden = $state<readonly string[]>(remembered() ?? FOLDED);
  /** Columns of protocols that no device here speaks are not offered. */
  const offered = $derived(
    columnsFor(devices.filter(({ code }) => device === null || code === device).map(({ protocol }) => protocol)),
  );
  const arranged = $derived.by(() => {
    const shown = offered.filter(({ key }) => !hidden.includes(key) && !(key === 'device' && device !== null));
    // While something is wrong it stands beside the name, where it is seen.
    const at = shown.findIndex(({ key }) => key === 'problem');
    const name = shown.findIndex(({ key }) => key === 'name');
    if (problems.size > 0 && at > 0 && name >= 0) shown.splice(name + 1, 0, ...shown.splice(at, 1));
    return shown;
  });
  // Nothing moves under an open cell.
  const columns = $derived(editing === null ? arranged : (opened?.columns ?? arranged));
  const lookups = $derived({ mapped, problems });
  const passed = $derived(
    passing(rows, GRID_COLUMNS, { columns: filtering ? filters : {}, kind, problem: problemFilter }, lookups),
  );
  const view = $derived.by(() => {
    const by = sorting && GRID_COLUMNS.find(({ key }) => key === sorting?.key);
    return by && sorting ? sortedView(passed, rows, by, sorting.down, lookups) : passed;
  });
  const width = $derived(columns.reduce((sum, column) => sum + column.width, GUTTER));
  const lefts = $derived.by(() => {
    let at = GUTTER;
    return columns.map((column) => {
      const left = at;
      at += column.width;
      return left;
    });
  });
  // Cells differ by their text alone: where they stand and how they look is a matter of their column.
  const rowStyle = $derived(`height: ${ROW}px; width: ${width}px; min-width: 100%`);
  const cellStyles = $derived(
    columns.map((column, c) => `left: ${lefts[c]}px; width: ${column.width}px; height: ${ROW - 1}px`),
  );
  const cellClasses = $derived(
    columns.map(
      (column) =>
        `cell absolute truncate px-1.5${column.numeric || column.key === 'kind' ? ' mono' : ''}${column.numeric ? ' text-right' : ''}${column.key === 'mapped' ? ' text-soft' : ''}`,
    ),
  );
  /** Rows drawn now, and slots kept for them. */
  const ahead = $derived(grown?.view === view ? grown.rows : AHEAD.changed);
  const drawn = $derived(Math.ceil(viewport / ROW) + ahead + BEHIND);
  const pool = $derived(Math.ceil(viewport / ROW) + AHEAD.usual + BEHIND);
  const first = $derived(
    Math.max(0, Math.min(view.length - drawn, Math.floor(scrollTop / ROW) - (upwards ? ahead : BEHIND))),
  );
  /**
   * Which row of the view each slot shows: a row keeps its slot while it is in sight. A slot with nothing to show (-1)
   * is kept, hidden: making rows anew when a filter is taken away would take longer than the filter.
   */
  const slots = $derived.by(() => {
    const count = Math.min(pool, rows.length);
    const shown = new Array<number>(count).fill(-1);
    for (let i = first; i < Math.min(first + Math.min(drawn, count), view.length); i++) shown[i % count] = i;
    return shown;
  });
  const selection = $derived(rangeOf(active, anchor));
  const selected = $derived(view.slice(selection.top, selection.bottom + 1).map((at) => rows[at]));
  /** What a tool works on: the selected rows, or all that the filters leave when just one cell is marked. */
  const workedCount = $derived(selected.length > 1 ? selected.length : view.length);
  const worked = (): PointRow[] => (selected.length > 1 ? selected : view.map((at) => rows[at]));
  const byCode = $derived(new Map(devices.map((one) => [one.code, one])));
  const counts = $derived.by(() => {
    let [bad, odd] = [0, 0];
    for (const own of problems.values()) {
      if (own.some(({ severity }) => severity === 'problem')) bad++;
      else odd++;
    }
    return { bad, odd };
  });

  // Problems are found a moment after the last change, device by device.
  $effect(() => {
    const [list, known] = [rows, byCode];
    let superseded = false;
    const timer = setTimeout(() => {
      void problemsOf(list, known, () => superseded).then((found) => found && (problems = found));
    }, CHECK_AFTER_MS);
    return () => {
      superseded = true;
      clearTimeout(timer);
    };
  });

  $effect(() => {
    const now = view;
    let frame = 0;
    const grow = (rows: number): void => {
      grown = { view: now, rows };
      if (rows < AHEAD.usual) frame = requestAnimationFrame(() => grow(rows + AHEAD.step));
    };
    const timer = setTimeout(() => grow(AHEAD.changed + AHEAD.step), GROWS_AFTER_MS);
    return () => {
      clearTimeout(timer);
      cancelAnimationFrame(frame);
    };
  });

  // Columns moved or went: the marked cells stay with their columns.
  let arrangement: readonly GridColumn[] = untrack(() => columns);
  $effect.pre(() => {
    const [before, now] = [arrangement, columns];
    if (before === now) return;
    arrangement = now;
    untrack(() => {
      const placed = (cell: typeof active): typeof active => {
        const at = now.findIndex(({ key }) => key === before[cell.column]?.key);
        return { ...cell, column: at >= 0 ? at : Math.max(0, Math.min(now.length - 1, cell.column)) };
      };
      [active, anchor] = [placed(active), placed(anchor)];
    });
  });

  // Rows came, went or moved, from here or from elsewhere: the marked cell stays with its row.
  let listed = untrack(() => ({ rows, view, complete }));
  $effect.pre(() => {
    const [before, now] = [listed, { rows, view, complete }];
    listed = now;
    if (before.rows === now.rows) return;
    untrack(() => {
      // While the list is loading, nobody has chosen the first cell.
      if (!before.complete && active.row === 0) return;
      const id = (at: number): number | undefined => before.rows[before.view[at]]?.id;
      if (active.row === anchor.row && now.rows[now.view[active.row]]?.id === id(active.row)) return;
      const at = new Map<number | undefined, number>(now.view.map((row, place) => [now.rows[row].id, place]));
      const [one, other] = [at.get(id(active.row)), at.get(id(anchor.row))];
      if (one === undefined || other === undefined) return;
      [active, anchor] = [
        { ...active, row: one },
        { ...anchor, row: other },
      ];
    });
  });

  // The view became shorter: stay within it.
  $effect(() => {
    const last = Math.max(0, view.length - 1);
    untrack(() => {
      if (active.row > last) active = { ...active, row: last };
      if (anchor.row > last) anchor = { ...anchor, row: last };
    });
  });

  onMount(() => {
    readyForPaste();
    const onPaste = (event: ClipboardEvent): void => {
      if (dialog !== null || !mayBuild || editing !== null) return;
      if (/^(INPUT|TEXTAREA|SELECT)$/.test((event.target as HTMLElement).tagName)) return;
      const text = event.clipboardData?.getData('text/plain') ?? '';
      if (text.trim() === '') return;
      event.preventDefault();
      onPasted(text);
    };
    document.addEventListener('paste', onPaste);
    return () => document.removeEventListener('paste', onPaste);
  });

  const say = (words: string, bad = false): void => void (message = { words, bad });

  function choose(column: GridColumn): void {
    hidden = hidden.includes(column.key) ? hidden.filter((key) => key !== column.key) : [...hidden, column.key];
    localStorage.setItem(STORE, JSON.stringify(hidden));
  }

  function sortBy({ key }: GridColumn): void {
    if (sorting?.key !== key) sorting = { key, down: false };
    else sorting = sorting.down ? null : { key, down: true };
  }

  function onScroll(): void {
    const next = scroller?.scrollTop ?? 0;
    if (next === scrollTop) return;
    upwards = next < scrollTop;
    scrollTop = next;
  }

  function reveal(): void {
    if (!scroller) return;
    const top = active.row * ROW;
    const room = viewport - headHeight;
    if (top < scroller.scrollTop) scroller.scrollTop = top;
    if (top + ROW > scroller.scrollTop + room) scroller.scrollTop = top + ROW - room;
    const left = lefts[active.column] ?? 0;
    const right = left + (columns[active.column]?.width ?? 0);
    if (left - GUTTER < scroller.scrollLeft) scroller.scrollLeft = left - GUTTER;
    if (right > scroller.scrollLeft + scroller.clientWidth) scroller.scrollLeft = right - scroller.clientWidth;
  }

  function move(row: number, column: number, keepAnchor: boolean): void {
    active = {
      row: Math.max(0, Math.min(view.length - 1, row)),
      column: Math.max(0, Math.min(columns.length - 1, column)),
    };
    if (!keepAnchor) anchor = active;
    reveal();
  }

  /** Changes points; all are written, or none. */
  async function change(
    label: string,
    edits: readonly { row: PointRow; document: DraftPoint | null }[],
  ): Promise<string | null> {
    const real = edits.filter(({ row, document }) => document !== row.document);
    if (real.length === 0) return null;
    const outcome = await draft.change(
      label,
      real.map(({ row, document }) => ({
        id: row.id,
        kind: 'point',
        parent: row.parent,
        expected: row.version,
        document,
      })),
      real.map(({ row }) => row.document),
    );
    if (outcome.ok) say(`${label}: ${real.length} ${real.length === 1 ? 'point' : 'points'}`);
    else say(outcome.words, true);
    return outcome.ok ? null : outcome.words;
  }

  async function add(label: string, added: readonly Added[]): Promise<string | null> {
    return takeOver(label, [], added);
  }

  /** Changes points and adds others, all of it or nothing. */
  async function takeOver(
    label: string,
    changed: readonly { row: PointRow; document: DraftPoint }[],
    added: readonly Added[],
  ): Promise<string | null> {
    const changes: Change[] = [
      ...changed.map(({ row, document }) => ({
        id: row.id,
        kind: 'point' as const,
        parent: row.parent,
        expected: row.version,
        document,
      })),
      ...added.map(({ device: parent, point }) => ({
        id: null,
        kind: 'point' as const,
        parent,
        expected: null,
        document: point,
      })),
    ];
    const outcome = await draft.change(
      label,
      changes,
      changed.map(({ row }) => row.document),
    );
    if (outcome.ok) say(`${label}: ${changes.length} ${changes.length === 1 ? 'point' : 'points'}`);
    return outcome.ok ? null : outcome.words;
  }

  // ---- editing a cell

  async function edit(start: string | null): Promise<void> {
    const column = columns[active.column];
    const row = rows[view[active.row]];
    if (!mayBuild || !column?.field || row === undefined) return;
    opened = { row, column, columns };
    editing = start ?? column.field.text(row.document);
    await tick();
    editor?.focus();
    if (start === null) editor?.select();
  }

  async function commit(down: number, right: number): Promise<void> {
    if (opened === null) return;
    const { column, row: seen } = opened;
    const { field } = column;
    const text = editing ?? '';
    if (!field) return;
    // Somebody else changed the row meanwhile: what this cell showed still stands, or it is a conflict, which is shown.
    const now = rows.find(({ id }) => id === seen.id);
    const row = now && field.text(now.document) === field.text(seen.document) ? now : seen;
    const set = field.set(row.document, text);
    if (!set.ok) {
      say(`${rowWords(row)}, ${column.title}: ${set.problem}`, true);
      return;
    }
    [editing, opened] = [null, null];
    message = null;
    scroller?.focus();
    move(active.row + down, active.column + right, false);
    await change(`${column.title} of ${rowWords(row)}`, [
      { row, document: field.text(row.document) === field.text(set.value) ? row.document : set.value },
    ]);
  }

  function onEditorKey(event: KeyboardEvent): void {
    event.stopPropagation();
    if (event.key === 'Enter') {
      event.preventDefault();
      void commit(event.shiftKey ? -1 : 1, 0);
    } else if (event.key === 'Tab') {
      event.preventDefault();
      void commit(0, event.shiftKey ? -1 : 1);
    } else if (event.key === 'Escape') {
      [editing, opened] = [null, null];
      message = null;
      scroller?.focus();
    }
  }

  /** Sets cells of the selection, row by row and column by column; `value` gets the place within it. */
  async function setCells(label: string, value: (row: number, column: number) => string | null): Promise<void> {
    const { top, left, right } = selection;
    const edits: { row: PointRow; document: DraftPoint }[] = [];
    for (let i = 0; i < selected.length; i++) {
      const row = selected[i];
      let { document } = row;
      for (let c = left; c <= right; c++) {
        const column = columns[c];
        const text = column?.field ? value(i, c - left) : null;
        if (text === null || !column?.field || column.field.text(document) === text) continue;
        const set = column.field.set(document, text);
        if (!set.ok) {
          say(`${rowWords(row)}, ${column.title}: ${set.problem}. Nothing was changed.`, true);
          move(top + i, c, false);
          return;
        }
        document = set.value;
      }
      edits.push({ row, document });
    }
    await change(label, edits);
  }

  const fillDown = (): Promise<void> => {
    const { left } = selection;
    const source = selected[0];
    return setCells('fill down', (i, c) => (i === 0 ? null : cellText(source, columns[left + c], lookups)));
  };

  /** Goes on with the cells that are filled, or with the first one. */
  const fillSeries = (): Promise<void> => {
    const { left, right } = selection;
    const continued: (string[] | undefined)[] = [];
    for (let c = left; c <= right; c++) {
      const column = columns[c];
      if (!column?.field) continue;
      const texts = selected.map((row) => cellText(row, column, lookups));
      const given = texts.slice(0, texts.length > 2 && texts[1] !== texts[0] && column.numeric ? 2 : 1);
      continued[c - left] = [...given, ...series(given, texts.length - given.length)];
    }
    return setCells('series', (i, c) => continued[c]?.[i] ?? null);
  };

  async function removeRows(): Promise<void> {
    await change(
      'delete',
      selected.map((row) => ({ row, document: null })),
    );
  }

  // ---- clipboard

  async function copy(): Promise<void> {
    const shown = columns.slice(selection.left, selection.right + 1);
    const lines = selected.map((row) =>
      shown.map((column) => cellText(row, column, lookups).replace(/[\t\n]/g, ' ')).join('\t'),
    );
    await navigator.clipboard.writeText(lines.join('\n'));
    say(`${selected.length} ${selected.length === 1 ? 'row' : 'rows'} copied`);
  }

  /** A block that fits over cells fills them; anything that looks like rows of a list is previewed. */
  function onPasted(text: string): void {
    const lines = text.replace(/\r?\n$/, '').split(/\r?\n/);
    const cells = lines.map((line) => line.split('\t'));
    const widest = cells.reduce((most, row) => Math.max(most, row.length), 0);
    const fits =
      view.length > 0 &&
      cells.length <= view.length - selection.top &&
      widest <= 3 &&
      (cells.length === 1 || widest === 1 || widest === selection.right - selection.left + 1);
    if (!fits) {
      pasted = text;
      pastedFile = null;
      dialog = 'paste';
      return;
    }
    const single = cells.length === 1 && widest === 1;
    if (!single) {
      anchor = { row: selection.top, column: selection.left };
      active = {
        row: selection.top + cells.length - 1,
        column: Math.min(columns.length - 1, selection.left + widest - 1),
      };
    }
    void tick().then(() => setCells('paste', (i, c) => (single ? cells[0][0] : (cells[i]?.[c] ?? null))));
  }

  // ---- keys

  function onKey(event: KeyboardEvent): void {
    if (event.target !== scroller) return;
    const { key } = event;
    const page = Math.floor((viewport - headHeight) / ROW);
    const ctrl = event.ctrlKey || event.metaKey;
    const moves: Record<string, [number, number]> = {
      ArrowDown: [active.row + 1, active.column],
      ArrowUp: [active.row - 1, active.column],
      ArrowRight: [active.row, active.column + 1],
      ArrowLeft: [active.row, active.column - 1],
      PageDown: [active.row + page, active.column],
      PageUp: [active.row - page, active.column],
      Home: [ctrl ? 0 : active.row, 0],
      End: [ctrl ? Infinity : active.row, ctrl ? active.column : Infinity],
    };
    const to = moves[key];
    if (to) {
      event.preventDefault();
      move(to[0], to[1], event.shiftKey);
    } else if (ctrl && key.toLowerCase() === 'a') {
      event.preventDefault();
      anchor = { row: 0, column: 0 };
      active = { row: Math.max(0, view.length - 1), column: columns.length - 1 };
    } else if (ctrl && key.toLowerCase() === 'c') {
      event.preventDefault();
      void copy();
    } else if (ctrl && key.toLowerCase() === 'd' && mayBuild) {
      event.preventDefault();
      void (event.shiftKey ? fillSeries() : fillDown());
    } else if (key === 'Enter' || key === 'F2') {
      event.preventDefault();
      void edit(null);
    } else if (key === 'Delete' && mayBuild) {
      event.preventDefault();
      void (event.shiftKey ? removeRows() : setCells('clear', () => ''));
    } else if (key === 'Escape') {
      anchor = active;
      message = null;
    } else if (!ctrl && !event.altKey && key.length === 1 && mayBuild) {
      // A key that types begins a new text; the keys of the page (/ and ?) are typed only while editing.
      if (key === '/' || key === '?') return;
      event.preventDefault();
      event.stopPropagation();
      void edit(key);
    }
  }

  function onPointer(event: PointerEvent): void {
    const cell = (event.target as HTMLElement).closest<HTMLElement>('[data-column]');
    const line = (event.target as HTMLElement).closest<HTMLElement>('[data-row]');
    if (!line || event.button !== 0 || (event.target as HTMLElement).closest('button, input, a')) return;
    const row = Number(line.dataset.row);
    if (editing !== null) void commit(0, 0);
    if (cell) move(row, Number(cell.dataset.column), event.shiftKey);
    else {
      anchor = { row: event.shiftKey ? anchor.row : row, column: 0 };
      active = { row, column: columns.length - 1 };
    }
    event.preventDefault();
    scroller?.focus();
  }

  function onDrag(event: PointerEvent): void {
    if (event.buttons !== 1 || editing !== null) return;
    const line = (event.target as HTMLElement).closest<HTMLElement>('[data-row]');
    const cell = (event.target as HTMLElement).closest<HTMLElement>('[data-column]');
    if (!line) return;
    active = { row: Number(line.dataset.row), column: cell ? Number(cell.dataset.column) : active.column };
  }

  async function fix(row: PointRow, problem: PointProblem): Promise<void> {
    if (problem.fix) await change(problem.fix.words, [{ row, document: { ...row.document, ...problem.fix.set } }]);
  }

  /** The same fix for every row that has one. */
  async function fixAll(): Promise<void> {
    const edits = view.flatMap((at) => {
      const row = rows[at];
      const fixes = (problems.get(row.id) ?? []).flatMap(({ fix: one }) => one?.set ?? []);
      return fixes.length === 0 ? [] : [{ row, document: Object.assign({}, row.document, ...fixes) as DraftPoint }];
    });
    await change('mend', edits);
  }
  const activeRow = $derived(rows[view[active.row]]);
  const activeProblems = $derived(problems.get(activeRow?.id ?? -1) ?? []);
  const fixable = $derived([...problems.values()].filter((own) => own.some(({ fix: one }) => one)).length);

  async function exportAs(form: 'csv' | 'xlsx'): Promise<void> {
    exporting = false;
    const table = tableOfPoints(view.map((at) => ({ device: rows[at].parent, point: rows[at].document })));
    const name = `halvix-points${device === null ? '' : `-${device}`}`;
    if (form === 'csv') download(`${name}.csv`, `\ufeff${csvOf(table)}`, 'text/csv;charset=utf-8');
    else await downloadWorkbook(`${name}.xlsx`, table);
  }

  function onFile(event: Event & { currentTarget: HTMLInputElement }): void {
    const [file] = event.currentTarget.files ?? [];
    event.currentTarget.value = '';
    if (!file) return;
    pasted = '';
    pastedFile = file;
    dialog = 'paste';
  }

  const context = $derived((code: string) => ({ station: byCode.get(code)?.station ?? '', device: code }));
</script>

<div class="flex min-h-0 flex-1 flex-col">
  <div class="mb-2 flex flex-wrap items-center gap-1.5">
    <select class="field" aria-label="Kind" bind:value={kind}>
      <option value="all">All kinds</option>
      {#each POINT_KINDS as one (one)}<option value={one}>{KIND_WORDS[one].many}</option>{/each}
    </select>
    <button
      class="button"
      aria-pressed={problemFilter === 'problem'}
      onclick={() => (problemFilter = problemFilter === 'problem' ? 'all' : 'problem')}
      ><span class:text-alarm={counts.bad > 0}>{counts.bad} {counts.bad === 1 ? 'problem' : 'problems'}</span></button
    >
    <button
      class="button"
      aria-pressed={problemFilter === 'any'}
      onclick={() => (problemFilter = problemFilter === 'any' ? 'all' : 'any')}
      ><span class:text-questionable={counts.odd > 0}>{counts.odd} {counts.odd === 1 ? 'warning' : 'warnings'}</span
      ></button
    >
    <button
      class="button"
      aria-pressed={problemFilter === 'unmapped'}
      onclick={() => (problemFilter = problemFilter === 'unmapped' ? 'all' : 'unmapped')}>Seen by nobody</button
    >
    <button class="button" aria-pressed={filtering} onclick={() => (filtering = !filtering)}>Filter</button>
    <div class="relative" role="presentation" onkeydown={(event) => event.key === 'Escape' && (choosing = false)}>
      <button class="button" aria-expanded={choosing} onclick={() => (choosing = !choosing)}>Columns</button>
      {#if choosing}
        <div
          class="panel absolute left-0 z-30 mt-1 grid max-h-[60vh] w-[340px] grid-cols-2 overflow-y-auto p-2 shadow-lg"
        >
          {#each offered.filter(({ key }) => key !== 'device') as column (column.key)}
            <label class="flex items-center gap-2 py-0.5"
              ><input
                type="checkbox"
                checked={!hidden.includes(column.key)}
                onchange={() => choose(column)}
              />{column.title}</label
            >
          {/each}
        </div>
      {/if}
    </div>
    <span class="grow"></span>
    <span class="text-soft" data-testid="row-count" aria-live="polite"
      >{complete
        ? view.length === rows.length
          ? `${rows.length} points`
          : `${view.length} of ${rows.length} points`
        : `${total} points, loading …`}</span
    >
    <div class="relative" role="presentation" onkeydown={(event) => event.key === 'Escape' && (exporting = false)}>
      <button class="button" aria-expanded={exporting} onclick={() => (exporting = !exporting)}>Export</button>
      {#if exporting}
        <div class="panel absolute right-0 z-30 mt-1 flex w-40 flex-col gap-1 p-2 shadow-lg">
          <button class="button" onclick={() => void exportAs('csv')}>CSV</button>
          <button class="button" onclick={() => void exportAs('xlsx')}>XLSX</button>
        </div>
      {/if}
    </div>
  </div>
  {#if mayBuild}
    <div class="mb-2 flex flex-wrap items-center gap-1.5" role="toolbar" aria-label="Edit points">
      <button class="button first" onclick={() => (([pasted, pastedFile] = ['', null]), (dialog = 'paste'))}
        >Paste rows…</button
      >
      <label class="button"
        >Import…<input class="sr-only" type="file" accept=".csv,.tsv,.txt,.xlsx" onchange={onFile} /></label
      >
      <button
        class="button"
        disabled={numbered.length === 0 || (device !== null && !numbered.some(({ code }) => code === device))}
        onclick={() => (dialog = 'run')}>Add a run…</button
      >
      <button class="button" disabled={selected.length < 2} title="Ctrl D" onclick={() => void fillDown()}
        >Fill down</button
      >
      <button class="button" disabled={selected.length < 2} title="Ctrl Shift D" onclick={() => void fillSeries()}
        >Series</button
      >
      <button class="button" disabled={workedCount === 0} onclick={() => (dialog = 'many')}
        >Set in {workedCount}…</button
      >
      <button class="button" disabled={workedCount === 0} onclick={() => (dialog = 'replace')}>Find and replace…</button
      >
      <button class="button" disabled={workedCount === 0} onclick={() => (dialog = 'rename')}
        >Rename {workedCount}…</button
      >
      <button
        class="button"
        disabled={selected.length === 0}
        onclick={() => void unmap(selected).then((words) => words && say(words, true))}>Unmap {selected.length}</button
      >
      <button class="button" disabled={selected.length === 0} title="Shift Del" onclick={() => void removeRows()}
        >Delete {selected.length}</button
      >
      {#if fixable > 0}<button class="button" onclick={() => void fixAll()}>Mend {fixable}</button>{/if}
    </div>
  {/if}
  {#if message}
    <p class="mb-1" class:text-alarm={message.bad} role={message.bad ? 'alert' : 'status'} data-testid="grid-message">
      {message.words}
    </p>
  {/if}
  <div
    class="panel flex min-h-[160px] flex-1 flex-col text-[13px]"
    role="grid"
    aria-label="Points"
    aria-rowcount={view.length}
    aria-multiselectable="true"
  >
    <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_static_element_interactions -->
    <div
      bind:this={scroller}
      bind:clientHeight={viewport}
      class="relative min-h-0 flex-1 overflow-auto select-none focus-visible:-outline-offset-2"
      tabindex="0"
      data-testid="grid"
      onscroll={onScroll}
      onkeydown={onKey}
      onpointerdown={onPointer}
      onpointermove={onDrag}
      ondblclick={(event) => (event.target as HTMLElement).closest('[data-column]') && void edit(null)}
    >
      <div
        class="sticky top-0 z-20 border-b border-rule bg-panel"
        style="width: {width}px; min-width: 100%"
        role="row"
        bind:clientHeight={headHeight}
      >
        <div class="relative" style="height: {filtering ? 58 : 28}px">
          <span class="absolute left-2 top-1 text-[12px] text-soft">row</span>
          {#each columns as column, c (column.key)}
            <div
              class="absolute px-1.5 py-1"
              class:text-right={column.numeric}
              style="left: {lefts[c]}px; width: {column.width}px"
              role="columnheader"
              aria-sort={sorting?.key === column.key ? (sorting.down ? 'descending' : 'ascending') : 'none'}
              title={column.field?.help ?? ''}
            >
              <button
                class="max-w-full cursor-pointer truncate text-[12px] text-soft hover:text-ink"
                onclick={() => sortBy(column)}
                >{column.title}{sorting?.key === column.key ? (sorting.down ? ' ↓' : ' ↑') : ''}</button
              >
              {#if filtering}
                <input
                  class="field mt-0.5 min-h-0 w-full px-1 py-0 text-[12px]"
                  aria-label="Filter {column.title}"
                  placeholder="has, or =is"
                  bind:value={filters[column.key]}
                />
              {/if}
            </div>
          {/each}
        </div>
      </div>
      {#if view.length === 0}
        <p class="p-4 text-soft">
          {#if !complete}Loading …
          {:else if rows.length > 0}No point passes the filters.
          {:else if devices.length === 0}No point yet. <a class="word" href="/build/device/new">Add a device</a> first.
          {:else}No point yet. Copy the list from a spreadsheet and paste it here (Ctrl V), or add a run.{/if}
        </p>
      {/if}
      <div
        style="height: {view.length * ROW}px; width: {width}px; min-width: 100%; position: relative; contain: strict"
      >
        {#each slots as index, slot (slot)}
          {@const row = rows[view[index] ?? 0]}
          {#if row}
            {@const own = problems.get(row.id)}
            {@const worst = own?.[0]}
            <div
              role="row"
              aria-rowindex={index + 1}
              data-row={index}
              class="line absolute left-0 border-b border-rule/70"
              style="{index < 0 ? 'display: none' : `transform: translateY(${index * ROW}px)`}; {rowStyle}"
            >
              <span
                class="mono cell absolute left-0 cursor-pointer px-2 text-soft"
                style="width: {GUTTER}px"
                role="rowheader"
                >{#if worst}<b
                    class={worst.severity === 'problem' ? 'text-alarm' : 'text-questionable'}
                    title={worst.words}>!</b
                  >{/if}{index + 1}</span
              >
              {#each columns as column, c (column.key)}
                <div role="gridcell" tabindex="-1" data-column={c} class={cellClasses[c]} style={cellStyles[c]}>
                  {#if column.key === 'problem'}
                    {#if worst}
                      <span
                        class={worst.severity === 'problem' ? 'text-alarm' : 'text-questionable'}
                        title={own?.map(({ words }) => words).join('; ')}
                        >{worst.words}{own && own.length > 1 ? ` (+${own.length - 1})` : ''}</span
                      >
                      {#if worst.fix && mayBuild}<button
                          class="ml-1 text-accent underline"
                          onclick={() => void fix(row, worst)}>{worst.fix.words}</button
                        >{/if}
                    {/if}
                  {:else if column.key === 'name' && !row.document.inService}<span class="out">{row.document.name}</span
                    >
                  {:else}{cellText(row, column, lookups)}{/if}
                </div>
              {/each}
            </div>
          {/if}
        {/each}
        {#if view.length > 0 && columns.length > 0}
          {@const { top, bottom, left, right } = selection}
          {@const end = Math.min(right, columns.length - 1)}
          {#if bottom > top || right > left}
            <div
              class="chosen pointer-events-none absolute"
              style="transform: translate({lefts[left]}px, {top * ROW}px); width: {lefts[end] +
                columns[end].width -
                lefts[left]}px; height: {(bottom - top + 1) * ROW - 1}px"
            ></div>
          {/if}
          <div
            class="absolute outline-2 -outline-offset-2 outline-accent"
            class:pointer-events-none={editing === null}
            data-testid="active-cell"
            style="transform: translate({lefts[active.column]}px, {active.row * ROW}px); width: {columns[active.column]
              ?.width ?? 0}px; height: {ROW - 1}px"
          >
            {#if editing !== null && opened}
              {@const { column, row } = opened}
              <input
                bind:this={editor}
                bind:value={editing}
                class="absolute inset-0 bg-panel px-1.5 outline-2 outline-accent select-text"
                class:text-right={column.numeric}
                aria-label="{column.title} of {rowWords(row)}"
                title={column.field?.help}
                list={column.field?.choices ? `choices-${column.key}` : undefined}
                onkeydown={onEditorKey}
              />
            {/if}
          </div>
        {/if}
      </div>
    </div>
  </div>
  <p class="mt-1 text-[12.5px] text-soft">
    {#if activeProblems.length > 0}<b class="text-alarm">{activeProblems.map(({ words }) => words).join('; ')}.</b>{/if}
    Type to edit, Enter to go down, Ctrl D to fill down, Ctrl V to paste; Ctrl Z to undo. {columns[active.column]?.field
      ? `${columns[active.column].title}: ${columns[active.column].field?.help}.`
      : ''}
  </p>
</div>
{#each GRID_COLUMNS.filter(({ field }) => field?.choices) as { key, field } (key)}
  <datalist id="choices-{key}"
    >{#each field?.choices ?? [] as one (one)}<option value={one}></option>{/each}</datalist
  >
{/each}

{#if dialog === 'paste'}
  <PasteDialog
    text={pasted}
    file={pastedFile}
    {rows}
    {device}
    {devices}
    {complete}
    take={async (changed, added) => {
      const words = await takeOver('paste', changed, added);
      if (words === null) dialog = null;
      return words;
    }}
    close={() => (dialog = null)}
  />
{:else if dialog === 'run'}
  <RunDialog
    {device}
    devices={numbered}
    {context}
    add={async (label, added) => {
      const words = await add(label, added);
      if (words === null) dialog = null;
      return words;
    }}
    {rows}
    close={() => (dialog = null)}
  />
{:else if dialog === 'replace'}
  <ReplaceDialog
    rows={worked()}
    change={async (label, edits) => {
      const words = await change(label, edits);
      if (words === null) dialog = null;
      return words;
    }}
    close={() => (dialog = null)}
  />
{:else if dialog === 'rename'}
  <RenameDialog
    rows={worked()}
    {context}
    change={async (label, edits) => {
      const words = await change(label, edits);
      if (words === null) dialog = null;
      return words;
    }}
    close={() => (dialog = null)}
  />
{:else if dialog === 'many'}
  <EditManyDialog
    rows={worked()}
    field={columns[active.column]?.field?.key ?? pointField('unit').key}
    change={async (label, edits) => {
      const words = await change(label, edits);
      if (words === null) dialog = null;
      return words;
    }}
    close={() => (dialog = null)}
  />
{/if}

<style>
  /* Of fixed size: what changes inside concerns nobody outside. */
  .line,
  .cell {
    contain: layout style size;
    line-height: 29px;
  }
  .chosen {
    background: color-mix(in srgb, var(--accent) 16%, transparent);
  }
  .out {
    background: repeating-linear-gradient(135deg, transparent 0 5px, var(--rule) 5px 6px);
    color: var(--soft);
  }
</style>
