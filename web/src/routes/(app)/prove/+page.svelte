<script lang="ts">
  import { refresh } from '$lib/refresh.ts';
  import { goto } from '$app/navigation';
  import { onMount } from 'svelte';
  import { clock } from '$lib/clock.svelte.ts';
  import DataTable from '$lib/components/DataTable.svelte';
  import { MODE_WORDS } from '$lib/control.ts';
  import { clockTime, fullTime } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import type { Column } from '$lib/table.ts';
  import type { PageData } from './$types';

  let { data } = $props();
  type Row = PageData['commands'][number];
  const REFRESH_MS = 2000;
  const since = (row: Row, time: number | null): string => (time === null ? '' : `+${time - row.requested} ms`);
  const outcome = (row: Row): string =>
    `${row.state}${row.state === 'refused' && row.status !== null ? `, status ${row.status}` : ''}${row.words ? `: ${row.words}` : ''}`;
  const TONE: Record<string, string> = {
    refused: 'text-alarm',
    failed: 'text-alarm',
    unknown: 'text-alarm',
    interrupted: 'text-alarm',
    unconfirmed: 'text-questionable',
    expired: 'text-questionable',
  };
  const columns: Column<Row>[] = [
    {
      key: 'requested',
      title: 'Requested',
      width: '112px',
      mono: true,
      text: (row) => clockTime(row.requested, clock.now),
      order: (row) => row.requested,
    },
    { key: 'who', title: 'By', width: '92px', text: (row) => row.requestedBy },
    { key: 'point', title: 'Control', width: 'minmax(150px,0.7fr)', text: (row) => `${row.device} ${row.name}` },
    { key: 'operation', title: 'Operation', width: '104px', text: (row) => row.what },
    { key: 'mode', title: 'How', width: '118px', text: (row) => MODE_WORDS[row.mode] ?? row.mode },
    {
      key: 'sent',
      title: 'Sent',
      width: '72px',
      align: 'right',
      mono: true,
      text: (row) => since(row, row.sent),
      order: (row) => row.sent ?? 0,
    },
    {
      key: 'operated',
      title: 'Accepted',
      width: '80px',
      align: 'right',
      mono: true,
      text: (row) => since(row, row.operated ?? row.selected),
    },
    {
      key: 'confirmed',
      title: 'Confirmed',
      width: '88px',
      align: 'right',
      mono: true,
      text: (row) => since(row, row.confirmed),
    },
    { key: 'outcome', title: 'Outcome', width: 'minmax(190px,1.6fr)', text: outcome },
  ];

  onMount(() => {
    live.watch({ points: [], trail: null, journal: false });
    const timer = setInterval(
      () => document.visibilityState === 'visible' && void refresh('halvix:commands'),
      REFRESH_MS,
    );
    return () => clearInterval(timer);
  });
</script>

<svelte:head><title>Controls · Halvix</title></svelte:head>

<div class="flex min-h-[480px] grow flex-col gap-3 p-5">
  <div class="flex items-baseline gap-3">
    <h1 class="grow">Record of controls</h1>
    <a class="word" href="/prove/bench">Bench</a>
  </div>
  <p class="max-w-[860px]">
    Every control that was asked for, by a person or by a centre, and what became of it. Accepted is the device's word;
    confirmed is what the feedback point showed.
  </p>
  <DataTable
    name="Controls"
    rows={data.commands}
    {columns}
    rowKey={(row) => row.id}
    open={(row) => void goto(`/run/point/${row.pointId}`)}
    empty="No control has been sent yet. Open a device and choose “operate…” on one of its outputs."
  >
    {#snippet cell(row, column)}
      {#if column.key === 'outcome'}<span class={TONE[row.state] ?? ''} title={outcome(row)}>{outcome(row)}</span>
      {:else if column.key === 'requested'}<span title={fullTime(row.requested)}>{column.text(row)}</span>
      {:else}{column.text(row)}{/if}
    {/snippet}
  </DataTable>
</div>
