<script lang="ts">
  import { browser } from '$app/environment';
  import type { DeviceObject, DraftPoint } from '@halvix/core/config';
  import { KIND_WORDS, POINT_KINDS, type PointKind } from '@halvix/core/point';
  import { addressOf } from '@halvix/core/protocols';
  import { POINT_FIELDS, type Preview, type RowState, type Table } from '@halvix/core/pointlist';
  import { untrack } from 'svelte';
  import type { PointRow } from '$lib/build/grid/grid.ts';
  import { rowsOfWorkbook } from '$lib/build/forms.ts';
  import { analyse, analyseRows, previewed } from '$lib/build/grid/paste.ts';
  import Sheet from './Sheet.svelte';

  /** Rows from a spreadsheet or a file: which column is what, and what taking them over would do. */
  interface Props {
    text: string;
    file: File | null;
    rows: readonly PointRow[];
    device: string | null;
    devices: readonly DeviceObject[];
    complete: boolean;
    take: (
      changed: { row: PointRow; document: DraftPoint }[],
      added: { device: string; point: DraftPoint }[],
    ) => Promise<string | null>;
    close: () => void;
  }
  let { text, file, rows, device, devices, complete, take, close }: Props = $props();

  const STORE = 'halvix-paste-columns';
  let typed = $state(untrack(() => text));
  let table = $state.raw<Table | null>(null);
  let preview = $state.raw<Preview | null>(null);
  let problem = $state<string | null>(null);
  let kind = $state<PointKind>('binary');
  let into = $state(untrack(() => device ?? devices[0]?.code ?? ''));
  let shown = $state<RowState | 'all'>('all');
  let busy = $state(false);
  let tookMs = $state<number | null>(null);

  const fields = [['device', 'Device'] as const, ...POINT_FIELDS.map(({ key, title }) => [key, title] as const)];

  /** How columns of a table with this heading were matched last time. */
  function recalled(of: Table): Table {
    if (!browser || !of.hasHeading) return of;
    try {
      const kept = JSON.parse(localStorage.getItem(STORE) ?? '{}') as Record<string, (string | null)[]>;
      const columns = kept[of.rows[0].join('\t')];
      return columns?.length === of.columns.length ? { ...of, columns } : of;
    } catch {
      return of;
    }
  }

  function keep(of: Table): void {
    if (!of.hasHeading) return;
    try {
      const kept = JSON.parse(localStorage.getItem(STORE) ?? '{}') as Record<string, (string | null)[]>;
      const entries = Object.entries({ ...kept, [of.rows[0].join('\t')]: of.columns }).slice(-20);
      localStorage.setItem(STORE, JSON.stringify(Object.fromEntries(entries)));
    } catch {
      // Nothing is lost but a convenience.
    }
  }

  async function read(): Promise<void> {
    problem = null;
    table = null;
    preview = null;
    const began = performance.now();
    try {
      const result = file
        ? /\.xlsx$/i.test(file.name)
          ? await analyseRows(await rowsOfWorkbook(file))
          : await analyse(new Uint8Array(await file.arrayBuffer()))
        : await analyse(typed);
      if (!result.ok) problem = result.problem;
      else table = recalled(result.value);
    } catch (error) {
      problem = `The file cannot be read: ${error instanceof Error ? error.message : String(error)}`;
    }
    await look();
    tookMs = Math.round(performance.now() - began);
  }

  async function look(): Promise<void> {
    if (table === null) return;
    preview = await previewed(table, {
      device: into || null,
      kind,
      devices: new Map(devices.map(({ code, protocol }) => [code, protocol])),
      known: rows.map(({ parent, document }) => ({ device: parent, point: document })),
    });
  }

  if (browser && untrack(() => file !== null || text !== '')) void read();

  function match(column: number, key: string): void {
    if (table === null) return;
    const columns = table.columns.map((known, i) => (i === column ? key || null : known === key ? null : known));
    table = { ...table, columns };
    keep(table);
    void look();
  }

  const visible = $derived((preview?.rows ?? []).filter((row) => shown === 'all' || row.state === shown).slice(0, 200));
  const usable = $derived((preview?.counts.new ?? 0) + (preview?.counts.changed ?? 0));
  const STATES: Record<RowState, string> = { new: 'new', changed: 'changed', same: 'as it is', wrong: 'wrong' };

  async function go(): Promise<void> {
    if (preview === null || busy) return;
    busy = true;
    const changed: { row: PointRow; document: DraftPoint }[] = [];
    const added: { device: string; point: DraftPoint }[] = [];
    for (const row of preview.rows) {
      if (row.state === 'new') added.push({ device: row.device, point: row.point });
      else if (row.state === 'changed' && row.known !== null)
        changed.push({ row: rows[row.known], document: row.point });
    }
    if (table) keep(table);
    problem = await take(changed, added);
    busy = false;
  }
</script>

<Sheet
  wide
  title={file ? `Import ${file.name}` : 'Paste rows'}
  about="Columns with tabs or commas between, with or without a heading. Nothing is changed before you take it over."
  {close}
>
  {#if table === null && !file && (text === '' || problem !== null)}
    <textarea
      class="field mono h-48"
      aria-label="Rows"
      placeholder="Kind&#9;Address&#9;Name&#9;Unit&#9;Gain"
      bind:value={typed}></textarea>
    <div class="flex justify-end gap-2">
      <button class="button" onclick={close}>Cancel</button>
      <button class="button first" disabled={typed.trim() === ''} onclick={() => void read()}>Look at it</button>
    </div>
  {/if}
  {#if problem}<p role="alert" class="text-alarm" data-testid="paste-problem">{problem}</p>{/if}
  {#if preview === null && !problem && (file || text !== '' || table !== null)}<p class="text-soft">Reading …</p>{/if}
  {#if table !== null && preview !== null}
    <div class="flex flex-wrap items-end gap-3">
      {#if !table.columns.includes('device')}
        <label class="flex flex-col gap-0.5"
          >Into the list of
          <select class="field" bind:value={into} onchange={() => void look()}>
            {#each devices as { code, name } (code)}<option value={code}>{code} {name}</option>{/each}
          </select></label
        >
      {/if}
      {#if !table.columns.includes('kind')}
        <label class="flex flex-col gap-0.5"
          >Kind, where the address does not say
          <select class="field" bind:value={kind} onchange={() => void look()}>
            {#each POINT_KINDS as one (one)}<option value={one}>{KIND_WORDS[one].one}</option>{/each}
          </select></label
        >
      {/if}
      <div class="flex gap-1.5" role="group" aria-label="Show">
        <button class="button" aria-pressed={shown === 'all'} onclick={() => (shown = 'all')}
          >{preview.rows.length} rows</button
        >
        {#each ['new', 'changed', 'same', 'wrong'] as const as state (state)}
          <button
            class="button"
            aria-pressed={shown === state}
            onclick={() => (shown = state)}
            data-testid="paste-{state}"
            ><span class:text-alarm={state === 'wrong' && preview.counts.wrong > 0}
              >{preview.counts[state]} {STATES[state]}</span
            ></button
          >
        {/each}
      </div>
    </div>
    <div class="panel max-h-[44vh] overflow-auto text-[13px]">
      <table class="w-full">
        <thead class="sticky top-0 bg-panel">
          <tr>
            <th class="px-2 py-1 text-left font-normal text-soft">row</th>
            <th class="px-2 text-left font-normal text-soft"></th>
            {#each table.columns as key, column (column)}
              <th class="px-1 py-1 text-left font-normal">
                {#if table.hasHeading}<span class="block max-w-[140px] truncate text-soft"
                    >{table.rows[0][column] ?? ''}</span
                  >{/if}
                <select
                  class="field min-h-0 py-0"
                  aria-label="Column {column + 1} is"
                  value={key ?? ''}
                  onchange={(e) => match(column, e.currentTarget.value)}
                >
                  <option value="">not used</option>
                  {#each fields as [one, title] (one)}<option value={one}>{title}</option>{/each}
                </select>
              </th>
            {/each}
          </tr>
        </thead>
        <tbody>
          {#each visible as row (row.row)}
            <tr
              class="border-t border-rule align-top"
              class:text-alarm={row.state === 'wrong'}
              class:text-soft={row.state === 'same'}
            >
              <td class="mono px-2 py-1">{row.row}</td>
              <td class="px-2 py-1 whitespace-nowrap"
                >{STATES[row.state]}{#if row.state !== 'wrong' && addressOf(row.point) !== ''}<span
                    class="mono pl-1 text-soft">{addressOf(row.point)}</span
                  >{/if}</td
              >
              {#each table.columns as _, column (column)}<td class="max-w-[220px] truncate px-1.5 py-1"
                  >{table.rows[row.row - 1]?.[column] ?? ''}</td
                >{/each}
            </tr>
            {#each row.problems as one, i (i)}
              <tr class="text-alarm"
                ><td></td><td colspan={table.columns.length + 1} class="px-2 pb-1" data-testid="paste-row-problem"
                  >row {one.row}, {one.column}{one.value ? ` “${one.value}”` : ''}: {one.words}</td
                ></tr
              >
            {/each}
          {/each}
        </tbody>
      </table>
      {#if preview.rows.length > visible.length && visible.length === 200}<p class="p-2 text-soft">
          the first 200 of them
        </p>{/if}
    </div>
    <div class="flex items-center justify-end gap-2">
      {#if tookMs !== null}<span class="text-soft" data-testid="paste-ms" data-ms={tookMs}>read in {tookMs} ms</span
        >{/if}
      {#if preview.counts.wrong > 0}<span class="grow text-alarm"
          >{preview.counts.wrong}
          {preview.counts.wrong === 1 ? 'row is' : 'rows are'} wrong: mend it at the source. Nothing is taken over while one
          is.</span
        >{/if}
      {#if !complete}<span class="text-soft">the list is still loading …</span>{/if}
      <button class="button" onclick={close}>Cancel</button>
      <button
        class="button first"
        disabled={busy || usable === 0 || preview.counts.wrong > 0 || !complete}
        onclick={() => void go()}>{busy ? 'Taking over …' : `Take over ${usable} rows`}</button
      >
    </div>
  {/if}
</Sheet>
