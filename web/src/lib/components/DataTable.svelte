<script lang="ts" generics="Row">
  import { browser } from '$app/environment';
  import type { Snippet } from 'svelte';
  import { ROW, RowsInSight } from '../rowsinsight.svelte.ts';
  import { arranged, asTabbed, type Column, type Sorting } from '../table.ts';

  /**
   * A table for many rows: only those in sight are drawn. Sort by a heading, filter under it, choose columns; arrows
   * move, Enter opens, Ctrl-C copies the marked row or, with none marked, all that the filters leave.
   */
  interface Props {
    name: string;
    rows: Row[];
    columns: Column<Row>[];
    rowKey: (row: Row) => string | number;
    cell: Snippet<[Row, Column<Row>]>;
    empty: string;
    open?: (row: Row) => void;
    visible?: (rows: Row[]) => void;
    tools?: Snippet;
  }
  let { name, rows, columns, rowKey, cell, empty, open, visible, tools }: Props = $props();

  /** Rows drawn beyond those in sight. */
  const BEYOND = 8;
  let scroller = $state<HTMLDivElement>();
  let head = $state(28);
  let sorting = $state<Sorting | null>(null);
  let filters = $state<Record<string, string>>({});
  let filtering = $state(false);
  let choosing = $state(false);
  let marked = $state(-1);
  let copied = $state('');

  // svelte-ignore state_referenced_locally
  const store = `halvix-columns-${name}`;
  function remembered(): string[] | null {
    try {
      const kept: unknown = browser ? JSON.parse(localStorage.getItem(store) ?? 'null') : null;
      return Array.isArray(kept) ? kept.map(String) : null;
    } catch {
      return null;
    }
  }
  let hidden = $state<string[] | null>(remembered());
  const isHidden = (column: Column<Row>): boolean =>
    hidden === null ? (column.hidden ?? false) : hidden.includes(column.key);
  const shown = $derived(columns.filter((column) => !isHidden(column)));
  const template = $derived(shown.map(({ width }) => width).join(' '));
  const result = $derived(arranged(rows, shown, filtering ? filters : {}, sorting));
  const rowsInSight = new RowsInSight(
    () => scroller,
    () => result.length,
    () => head,
  );
  const first = $derived(Math.max(0, rowsInSight.sight.first - BEYOND));
  const inSight = $derived(result.slice(first, rowsInSight.sight.end + BEYOND));

  $effect(() => visible?.(inSight));

  function choose(column: Column<Row>): void {
    const now = columns.filter(isHidden).map(({ key }) => key);
    hidden = now.includes(column.key) ? now.filter((key) => key !== column.key) : [...now, column.key];
    localStorage.setItem(store, JSON.stringify(hidden));
  }

  function sortBy(column: Column<Row>): void {
    if (sorting?.key !== column.key) sorting = { key: column.key, down: false };
    else sorting = sorting.down ? null : { key: column.key, down: true };
  }

  function mark(index: number): void {
    marked = Math.max(0, Math.min(result.length - 1, index));
    if (marked >= 0) rowsInSight.reveal(marked);
  }

  const MOVES: Record<string, (page: number) => number> = {
    ArrowDown: () => marked + 1,
    ArrowUp: () => marked - 1,
    PageDown: (page) => marked + page,
    PageUp: (page) => marked - page,
    Home: () => 0,
    End: () => Infinity,
  };

  function onKey(event: KeyboardEvent): void {
    const move = MOVES[event.key];
    if (move) {
      event.preventDefault();
      mark(move(rowsInSight.room));
    } else if (event.key === 'Enter' && result[marked] && !(event.target as HTMLElement).closest('a, button, input')) {
      open?.(result[marked]);
    } else if (event.key === 'Escape') marked = -1;
    else if (event.key === 'c' && (event.ctrlKey || event.metaKey) && !getSelection()?.toString()) {
      event.preventDefault();
      void copy();
    }
  }

  async function copy(): Promise<void> {
    const which = marked >= 0 && result[marked] ? [result[marked]] : result;
    await navigator.clipboard.writeText(
      asTabbed(
        which,
        shown.filter(({ actions }) => !actions),
      ),
    );
    copied = `${which.length} ${which.length === 1 ? 'row' : 'rows'} copied`;
    setTimeout(() => (copied = ''), 2500);
  }
</script>

<div class="flex min-h-0 flex-1 flex-col">
  <div class="mb-2 flex flex-wrap items-center gap-2">
    {@render tools?.()}
    <span class="grow"></span>
    <span class="text-soft" data-testid="row-count" aria-live="polite">
      {copied ||
        (result.length === rows.length
          ? `${rows.length} ${rows.length === 1 ? 'row' : 'rows'}`
          : `${result.length} of ${rows.length} rows`)}
    </span>
    <button class="button" aria-pressed={filtering} onclick={() => (filtering = !filtering)}>Filter</button>
    <div class="relative" role="presentation" onkeydown={(event) => event.key === 'Escape' && (choosing = false)}>
      <button class="button" aria-expanded={choosing} onclick={() => (choosing = !choosing)}>Columns</button>
      {#if choosing}
        <div class="panel absolute right-0 z-20 mt-1 w-48 p-2 shadow-lg">
          {#each columns.filter(({ actions }) => !actions) as column (column.key)}
            <label class="flex items-center gap-2 py-0.5">
              <input type="checkbox" checked={!isHidden(column)} onchange={() => choose(column)} />{column.title}
            </label>
          {/each}
        </div>
      {/if}
    </div>
    <button class="button" onclick={() => void copy()}>Copy</button>
  </div>
  <div
    class="panel flex min-h-[120px] flex-1 flex-col text-[13px]"
    role="table"
    aria-label={name}
    aria-rowcount={result.length}
  >
    <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
    <div
      bind:this={scroller}
      onkeydown={onKey}
      class="min-h-0 flex-1 overflow-auto focus-visible:-outline-offset-2"
      tabindex="0"
      role="rowgroup"
    >
      <div
        class="sticky top-0 z-10 grid border-b border-rule bg-panel"
        style="grid-template-columns: {template}"
        role="row"
        bind:clientHeight={head}
      >
        {#each shown as column (column.key)}
          <div
            class="px-2.5 py-1"
            role="columnheader"
            aria-sort={sorting?.key === column.key ? (sorting.down ? 'descending' : 'ascending') : 'none'}
            class:text-right={column.align === 'right'}
          >
            <button class="cursor-pointer text-[12px] text-soft hover:text-ink" onclick={() => sortBy(column)}>
              {column.title}{sorting?.key === column.key ? (sorting.down ? ' ↓' : ' ↑') : ''}
            </button>
            {#if filtering && !column.actions}
              <input
                class="field mt-1 min-h-0 w-full py-0 text-[12px]"
                aria-label="Filter {column.title}"
                bind:value={filters[column.key]}
              />
            {/if}
          </div>
        {/each}
      </div>
      {#if result.length === 0}
        <p class="p-4 text-soft">{rows.length === 0 ? empty : 'No row passes the filters.'}</p>
      {/if}
      <div style="height: {result.length * ROW}px; position: relative">
        {#each inSight as row, i (rowKey(row))}
          {@const index = first + i}
          <!-- svelte-ignore a11y_click_events_have_key_events -->
          <div
            role="row"
            tabindex="-1"
            aria-rowindex={index + 1}
            aria-selected={index === marked}
            class="absolute right-0 left-0 grid items-center border-b border-rule/70"
            class:bg-chosen={index === marked}
            style="top: {index * ROW}px; height: {ROW}px; grid-template-columns: {template}"
            onclick={() => (marked = index)}
            ondblclick={() => open?.(row)}
          >
            {#each shown as column (column.key)}
              <div
                role="cell"
                class="truncate px-2.5"
                class:mono={column.mono}
                class:text-right={column.align === 'right'}
              >
                {@render cell(row, column)}
              </div>
            {/each}
          </div>
        {/each}
      </div>
    </div>
  </div>
</div>
