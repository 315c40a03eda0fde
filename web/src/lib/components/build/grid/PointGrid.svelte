<script lang="ts">
  import { pointsOf } from '@halvix/core/protocols';
  import type { DeviceObject } from '@halvix/core/config';
  import { onMount, tick } from 'svelte';
  import { readyForPaste } from '$lib/build/grid/paste.ts';
  import {
    cellText,
    GRID_COLUMNS,
    rowWords,
    type GridColumn,
    type MappedWords,
    type PointRow,
  } from '$lib/build/grid/grid.ts';
  import { GridView, GUTTER } from '$lib/build/grid/gridview.svelte.ts';
  import { GridWindow } from '$lib/build/grid/gridwindow.svelte.ts';
  import { GridWork } from '$lib/build/grid/gridwork.svelte.ts';
  import { ROW } from '$lib/rowsinsight.svelte.ts';
  import GridDialogs, { type GridDialog } from './GridDialogs.svelte';
  import GridTools from './GridTools.svelte';

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
  const numbered = $derived(devices.filter(({ protocol }) => pointsOf(protocol).isNumbered));
  const canRun = $derived(device === null ? numbered.length > 0 : numbered.some(({ code }) => code === device));

  const grid = new GridView(() => ({ rows, complete, mapped, device, devices }));
  const work = new GridWork(grid, (row, column) => move(row, column, false));
  let scroller = $state<HTMLDivElement>();
  let headHeight = $state(58);
  const windowed = new GridWindow(
    () => grid.view,
    () => rows.length,
    () => scroller,
    () => headHeight,
  );
  const view = $derived(grid.view);
  const columns = $derived(grid.columns);
  const lefts = $derived(grid.lefts);
  const width = $derived(grid.width);

  let editor = $state<HTMLInputElement>();
  let editing = $state<string | null>(null);
  /** What the open cell was opened on: the row as it was seen then, and its column. */
  let opened = $state.raw<{ row: PointRow; column: GridColumn } | null>(null);
  let dialog = $state<GridDialog | null>(null);
  let pasted = $state('');
  let pastedFile = $state.raw<File | null>(null);

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

  function open(which: GridDialog, file: File | null = null, text = ''): void {
    [pasted, pastedFile, dialog] = [text, file, which];
  }

  function reveal(): void {
    if (!scroller) return;
    const { row, column } = grid.active;
    windowed.rows.reveal(row);
    const left = lefts[column] ?? 0;
    const right = left + (columns[column]?.width ?? 0);
    if (left - GUTTER < scroller.scrollLeft) scroller.scrollLeft = left - GUTTER;
    if (right > scroller.scrollLeft + scroller.clientWidth) scroller.scrollLeft = right - scroller.clientWidth;
  }

  function move(row: number, column: number, keepAnchor: boolean): void {
    grid.mark(row, column, keepAnchor);
    reveal();
  }

  // ---- editing a cell

  async function edit(start: string | null): Promise<void> {
    const { activeColumn: column, activeRow: row } = grid;
    if (!mayBuild || !column?.field || row === undefined) return;
    // Nothing moves under an open cell.
    grid.held = columns;
    opened = { row, column };
    editing = start ?? column.field.text(row.document);
    await tick();
    editor?.focus();
    if (start === null) editor?.select();
  }

  function closeCell(): void {
    [editing, opened] = [null, null];
    grid.held = null;
    work.message = null;
    scroller?.focus();
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
      work.say(`${rowWords(row)}, ${column.title}: ${set.problem}`, true);
      return;
    }
    closeCell();
    move(grid.active.row + down, grid.active.column + right, false);
    await work.change(`${column.title} of ${rowWords(row)}`, [
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
    } else if (event.key === 'Escape') closeCell();
  }

  /** A block that fits over cells fills them; anything that looks like rows of a list is previewed. */
  function onPasted(text: string): void {
    const lines = text.replace(/\r?\n$/, '').split(/\r?\n/);
    const cells = lines.map((line) => line.split('\t'));
    const widest = cells.reduce((most, row) => Math.max(most, row.length), 0);
    const { top, left, right } = grid.selection;
    const fits =
      view.length > 0 &&
      cells.length <= view.length - top &&
      widest <= 3 &&
      (cells.length === 1 || widest === 1 || widest === right - left + 1);
    if (!fits) {
      open('paste', null, text);
      return;
    }
    const single = cells.length === 1 && widest === 1;
    if (!single) {
      grid.anchor = { row: top, column: left };
      grid.active = { row: top + cells.length - 1, column: Math.min(columns.length - 1, left + widest - 1) };
    }
    void tick().then(() => work.setCells('paste', (i, c) => (single ? cells[0][0] : (cells[i]?.[c] ?? null))));
  }

  // ---- keys

  function onKey(event: KeyboardEvent): void {
    if (event.target !== scroller) return;
    const { key } = event;
    const { active } = grid;
    const page = windowed.rows.room;
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
      grid.markAll();
    } else if (ctrl && key.toLowerCase() === 'c') {
      event.preventDefault();
      void work.copy();
    } else if (ctrl && key.toLowerCase() === 'd' && mayBuild) {
      event.preventDefault();
      void (event.shiftKey ? work.fillSeries() : work.fillDown());
    } else if (key === 'Enter' || key === 'F2') {
      event.preventDefault();
      void edit(null);
    } else if (key === 'Delete' && mayBuild) {
      event.preventDefault();
      void (event.shiftKey ? work.removeRows() : work.setCells('clear', () => ''));
    } else if (key === 'Escape') {
      grid.anchor = active;
      work.message = null;
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
      grid.anchor = { row: event.shiftKey ? grid.anchor.row : row, column: 0 };
      grid.active = { row, column: columns.length - 1 };
    }
    event.preventDefault();
    scroller?.focus();
  }

  function onDrag(event: PointerEvent): void {
    if (event.buttons !== 1 || editing !== null) return;
    const line = (event.target as HTMLElement).closest<HTMLElement>('[data-row]');
    const cell = (event.target as HTMLElement).closest<HTMLElement>('[data-column]');
    if (!line) return;
    grid.active = { row: Number(line.dataset.row), column: cell ? Number(cell.dataset.column) : grid.active.column };
  }
</script>

<div class="flex min-h-0 flex-1 flex-col">
  <GridTools {grid} {work} {total} {complete} {device} {mayBuild} {canRun} {unmap} {open} />
  {#if work.message}
    {@const { words, bad } = work.message}
    <p class="mb-1" class:text-alarm={bad} role={bad ? 'alert' : 'status'} data-testid="grid-message">
      {words}
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
      class="relative min-h-0 flex-1 overflow-auto select-none focus-visible:-outline-offset-2"
      tabindex="0"
      data-testid="grid"
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
        <div class="relative" style="height: {grid.filtering ? 58 : 28}px">
          <span class="absolute left-2 top-1 text-[12px] text-soft">row</span>
          {#each columns as column, c (column.key)}
            <div
              class="absolute px-1.5 py-1"
              class:text-right={column.numeric}
              style="left: {lefts[c]}px; width: {column.width}px"
              role="columnheader"
              aria-sort={grid.sorting?.key === column.key ? (grid.sorting.down ? 'descending' : 'ascending') : 'none'}
              title={column.field?.help ?? ''}
            >
              <button
                class="max-w-full cursor-pointer truncate text-[12px] text-soft hover:text-ink"
                onclick={() => grid.sortBy(column)}
                >{column.title}{grid.sorting?.key === column.key ? (grid.sorting.down ? ' ↓' : ' ↑') : ''}</button
              >
              {#if grid.filtering}
                <input
                  class="field mt-0.5 min-h-0 w-full px-1 py-0 text-[12px]"
                  aria-label="Filter {column.title}"
                  placeholder="has, or =is"
                  bind:value={grid.filters[column.key]}
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
        {#each windowed.slots as index, slot (slot)}
          {@const row = rows[view[index] ?? 0]}
          {#if row}
            {@const own = grid.problems.get(row.id)}
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
                          onclick={() => void work.fix(row, worst)}>{worst.fix.words}</button
                        >{/if}
                    {/if}
                  {:else if column.key === 'name' && !row.document.inService}<span class="out">{row.document.name}</span
                    >
                  {:else}{cellText(row, column, grid.lookups)}{/if}
                </div>
              {/each}
            </div>
          {/if}
        {/each}
        {#if view.length > 0 && columns.length > 0}
          {@const { top, bottom, left, right } = grid.selection}
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
            style="transform: translate({lefts[grid.active.column]}px, {grid.active.row * ROW}px); width: {columns[
              grid.active.column
            ]?.width ?? 0}px; height: {ROW - 1}px"
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
    {#if grid.activeProblems.length > 0}<b class="text-alarm"
        >{grid.activeProblems.map(({ words }) => words).join('; ')}.</b
      >{/if}
    Type to edit, Enter to go down, Ctrl D to fill down, Ctrl V to paste; Ctrl Z to undo. {columns[grid.active.column]
      ?.field
      ? `${columns[grid.active.column].title}: ${columns[grid.active.column].field?.help}.`
      : ''}
  </p>
</div>
{#each GRID_COLUMNS.filter(({ field }) => field?.choices) as { key, field } (key)}
  <datalist id="choices-{key}"
    >{#each field?.choices ?? [] as one (one)}<option value={one}></option>{/each}</datalist
  >
{/each}

<GridDialogs
  {...{ grid, work, dialog, device, devices, numbered, complete }}
  text={pasted}
  file={pastedFile}
  close={() => (dialog = null)}
/>

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
