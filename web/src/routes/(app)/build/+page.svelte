<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { onMount } from 'svelte';
  import DataTable from '$lib/components/DataTable.svelte';
  import { live } from '$lib/live.svelte.ts';
  import type { Column } from '$lib/table.ts';
  import type { MappingRow } from './+page.server.ts';

  let { data } = $props();
  const chosen = $derived(page.url.searchParams.get('outbound') ?? data.frame.outbounds[0]?.code ?? '');
  const outbound = $derived(data.frame.outbounds.find(({ code }) => code === chosen));
  const rows = $derived(data.rows.filter((row) => row.outbound === chosen));
  const columns: Column<MappingRow>[] = [
    { key: 'device', title: 'Device', width: '110px', text: (row) => row.device },
    {
      key: 'source',
      title: 'Source',
      width: '90px',
      mono: true,
      text: (row) => row.source,
      order: (row) => row.sourceRank,
    },
    { key: 'name', title: 'Point', width: 'minmax(170px,1fr)', text: (row) => row.name },
    {
      key: 'way',
      title: 'Way',
      width: '150px',
      text: (row) => (row.control ? '↔ status and control' : '→ to the centre'),
    },
    {
      key: 'target',
      title: 'Target',
      width: '100px',
      mono: true,
      text: (row) => row.target,
      order: (row) => row.targetRank,
    },
    { key: 'objects', title: 'Objects there', width: '190px', mono: true, text: (row) => row.objects },
    {
      key: 'class',
      title: 'Event class',
      width: '110px',
      text: (row) => (row.eventClass === 0 ? 'none' : `class ${row.eventClass}`),
    },
  ];

  onMount(() => live.watch({ points: [], trail: null, journal: false }));
</script>

<svelte:head><title>Mapping · Halvix</title></svelte:head>

<div class="flex min-h-[480px] grow flex-col gap-3 p-5">
  <h1>Mapping to {outbound?.centre ?? 'the centres'}</h1>
  {#if outbound}
    <p class="max-w-[860px]">
      {rows.length} of {data.total} points can be seen by {outbound.centre}; what is not mapped is not available there.
      Source on the left, target on the right, the value unchanged in between.
      <span class="text-soft">Read only; revision {data.revision}.</span>
    </p>
    <DataTable
      name="Mapping"
      {rows}
      {columns}
      rowKey={(row) => row.target}
      open={(row) => void goto(`/run/point/${row.id}`)}
      empty="Nothing is mapped to this centre yet: it sees no point."
    >
      {#snippet tools()}
        {#each data.frame.outbounds as one (one.code)}
          <a
            class="button plain"
            aria-current={one.code === chosen ? 'page' : undefined}
            class:first={one.code === chosen}
            href="/build?outbound={one.code}">{one.centre}</a
          >
        {/each}
      {/snippet}
      {#snippet cell(row, column)}
        {#if column.key === 'name'}<a class="plain hover:underline" href="/run/point/{row.id}">{row.name}</a>
        {:else}<span class:text-soft={column.key === 'objects'} class:text-accent={column.key === 'way' && row.control}
            >{column.text(row)}</span
          >{/if}
      {/snippet}
    </DataTable>
  {:else}
    <p class="max-w-[720px]">
      There is no outbound yet, so no centre can see a point. An outbound comes with the configuration document: <code
        class="mono">node dist/apply.js FILE</code
      >.
    </p>
  {/if}
</div>
