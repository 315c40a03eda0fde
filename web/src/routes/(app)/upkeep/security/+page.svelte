<script lang="ts">
  import { clock } from '$lib/clock.svelte.ts';
  import DataTable from '$lib/components/DataTable.svelte';
  import { clockTime, fullTime, grouped } from '$lib/format.ts';
  import type { Column } from '$lib/table.ts';

  let { data } = $props();
  type Row = (typeof data.entries)[number];
  const columns: Column<Row>[] = [
    {
      key: 'time',
      title: 'Time',
      width: '190px',
      mono: true,
      text: (row) => clockTime(row.time, clock.now, 0),
      order: (row) => row.time,
    },
    { key: 'who', title: 'Who', width: '160px', text: (row) => row.who || 'nobody' },
    { key: 'what', title: 'What', width: '140px', text: (row) => row.what },
    { key: 'words', title: 'In words', width: '1fr', text: (row) => row.words },
    { key: 'address', title: 'From', width: '150px', mono: true, text: (row) => row.address },
  ];
</script>

<svelte:head><title>Security log · Halvix</title></svelte:head>

<div class="flex min-h-[560px] grow flex-col gap-3 p-5">
  <div class="flex flex-wrap items-baseline gap-3">
    <h1>Security log</h1>
    <span class="text-soft"
      >Only added to; nobody changes it from here. Kept for {data.kept.days} days, at most {grouped(data.kept.lines, 0)} lines.</span
    >
    <span class="grow"></span>
    {#if data.older !== null}<a class="button plain" href="/upkeep/security?before={data.older}">Older lines ›</a>{/if}
  </div>
  <DataTable name="Security log" rows={data.entries} {columns} rowKey={(row) => row.id} empty="Nothing was noted yet.">
    {#snippet cell(row, column)}
      {#if column.key === 'time'}<span title={fullTime(row.time)}>{column.text(row)}</span>
      {:else if column.key === 'what'}<span class={/failed|refused/.test(row.what) ? 'text-alarm' : ''}
          >{column.text(row)}</span
        >
      {:else}{column.text(row)}{/if}
    {/snippet}
  </DataTable>
</div>
