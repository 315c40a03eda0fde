<script lang="ts">
  import { KIND_WORDS, POINT_KINDS } from '@halvix/core/point';
  import type { PointRow } from '$lib/build/grid/grid.ts';
  import type { GridView } from '$lib/build/grid/gridview.svelte.ts';
  import type { GridWork } from '$lib/build/grid/gridwork.svelte.ts';
  import type { GridDialog } from './GridDialogs.svelte';

  /** What stands above the point grid: filters, columns, files, and the tools that work on what is marked. */
  interface Props {
    grid: GridView;
    work: GridWork;
    total: number;
    complete: boolean;
    device: string | null;
    mayBuild: boolean;
    /** Whether there is a device whose addresses are numbers. */
    canRun: boolean;
    unmap: (rows: readonly PointRow[]) => Promise<string | null>;
    open: (dialog: GridDialog, file?: File) => void;
  }
  let { grid, work, total, complete, device, mayBuild, canRun, unmap, open }: Props = $props();
  let choosing = $state(false);
  let exporting = $state(false);

  function exportAs(form: 'csv' | 'xlsx'): void {
    exporting = false;
    void work.exportAs(form, device);
  }

  function onFile(event: Event & { currentTarget: HTMLInputElement }): void {
    const [file] = event.currentTarget.files ?? [];
    event.currentTarget.value = '';
    if (file) open('paste', file);
  }
</script>

<div class="mb-2 flex flex-wrap items-center gap-1.5">
  <select class="field" aria-label="Kind" bind:value={grid.kind}>
    <option value="all">All kinds</option>
    {#each POINT_KINDS as one (one)}<option value={one}>{KIND_WORDS[one].many}</option>{/each}
  </select>
  <button class="button" aria-pressed={grid.problem === 'problem'} onclick={() => grid.filterProblems('problem')}
    ><span class:text-alarm={grid.counts.bad > 0}
      >{grid.counts.bad} {grid.counts.bad === 1 ? 'problem' : 'problems'}</span
    ></button
  >
  <button class="button" aria-pressed={grid.problem === 'any'} onclick={() => grid.filterProblems('any')}
    ><span class:text-questionable={grid.counts.odd > 0}
      >{grid.counts.odd} {grid.counts.odd === 1 ? 'warning' : 'warnings'}</span
    ></button
  >
  <button class="button" aria-pressed={grid.problem === 'unmapped'} onclick={() => grid.filterProblems('unmapped')}
    >Seen by nobody</button
  >
  <button class="button" aria-pressed={grid.filtering} onclick={() => (grid.filtering = !grid.filtering)}>Filter</button
  >
  <div class="relative" role="presentation" onkeydown={(event) => event.key === 'Escape' && (choosing = false)}>
    <button class="button" aria-expanded={choosing} onclick={() => (choosing = !choosing)}>Columns</button>
    {#if choosing}
      <div
        class="panel absolute left-0 z-30 mt-1 grid max-h-[60vh] w-[340px] grid-cols-2 overflow-y-auto p-2 shadow-lg"
      >
        {#each grid.offered.filter(({ key }) => key !== 'device') as column (column.key)}
          <label class="flex items-center gap-2 py-0.5"
            ><input
              type="checkbox"
              checked={grid.isShown(column.key)}
              onchange={() => grid.choose(column)}
            />{column.title}</label
          >
        {/each}
      </div>
    {/if}
  </div>
  <span class="grow"></span>
  <span class="text-soft" data-testid="row-count" aria-live="polite"
    >{complete
      ? grid.view.length === grid.rows.length
        ? `${grid.rows.length} points`
        : `${grid.view.length} of ${grid.rows.length} points`
      : `${total} points, loading …`}</span
  >
  <div class="relative" role="presentation" onkeydown={(event) => event.key === 'Escape' && (exporting = false)}>
    <button class="button" aria-expanded={exporting} onclick={() => (exporting = !exporting)}>Export</button>
    {#if exporting}
      <div class="panel absolute right-0 z-30 mt-1 flex w-40 flex-col gap-1 p-2 shadow-lg">
        <button class="button" onclick={() => exportAs('csv')}>CSV</button>
        <button class="button" onclick={() => exportAs('xlsx')}>XLSX</button>
      </div>
    {/if}
  </div>
</div>
{#if mayBuild}
  <div class="mb-2 flex flex-wrap items-center gap-1.5" role="toolbar" aria-label="Edit points">
    <button class="button first" onclick={() => open('paste')}>Paste rows…</button>
    <label class="button"
      >Import…<input class="sr-only" type="file" accept=".csv,.tsv,.txt,.xlsx" onchange={onFile} /></label
    >
    <button class="button" disabled={!canRun} onclick={() => open('run')}>Add a run…</button>
    <button class="button" disabled={grid.selected.length < 2} title="Ctrl D" onclick={() => void work.fillDown()}
      >Fill down</button
    >
    <button
      class="button"
      disabled={grid.selected.length < 2}
      title="Ctrl Shift D"
      onclick={() => void work.fillSeries()}>Series</button
    >
    <button class="button" disabled={grid.workedCount === 0} onclick={() => open('many')}
      >Set in {grid.workedCount}…</button
    >
    <button class="button" disabled={grid.workedCount === 0} onclick={() => open('replace')}>Find and replace…</button>
    <button class="button" disabled={grid.workedCount === 0} onclick={() => open('rename')}
      >Rename {grid.workedCount}…</button
    >
    <button
      class="button"
      disabled={grid.selected.length === 0}
      onclick={() => void unmap(grid.selected).then((words) => words && work.say(words, true))}
      >Unmap {grid.selected.length}</button
    >
    <button
      class="button"
      disabled={grid.selected.length === 0}
      title="Shift Del"
      onclick={() => void work.removeRows()}>Delete {grid.selected.length}</button
    >
    {#if grid.counts.fixable > 0}<button class="button" onclick={() => void work.fixAll()}
        >Mend {grid.counts.fixable}</button
      >{/if}
  </div>
{/if}
