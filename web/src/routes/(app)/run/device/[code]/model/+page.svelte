<script lang="ts">
  import { KIND_WORDS } from '@halvix/core/point';
  import { definitionOf, FIRST_PROTOCOL, type SurveyedPoint } from '@halvix/core/protocols';
  import { onMount } from 'svelte';
  import { messageOf, post } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import DataTable from '$lib/components/DataTable.svelte';
  import { clockTime, fullTime, grouped } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import type { Column } from '$lib/table.ts';

  /** All that a device has, with its present values, whether it is in the list or not. */
  let { data } = $props();
  const device = $derived(data.frame.devices.find(({ code }) => code === data.deviceCode));
  const definition = $derived(definitionOf(device?.protocol ?? FIRST_PROTOCOL));
  let id = $state<string | null>(null);
  let problem = $state<string | null>(null);
  let again = $state(false);
  /** What was read last stays while it is read again. */
  let found = $state.raw<readonly SurveyedPoint[] | null>(null);
  let readAt = $state<number | null>(null);
  /** The beginning of the addresses that are shown: `HLMB1/XCBR1`. */
  let scope = $state('');
  const probe = $derived(live.probe?.id === id ? live.probe : null);
  const isReading = $derived(
    id !== null && (probe === null || probe.state === 'running' || probe.state === 'requested'),
  );

  const AGAIN_MS = 5000;
  onMount(() => {
    void read();
    const timer = setInterval(
      () => again && !isReading && document.visibilityState === 'visible' && void read(),
      AGAIN_MS,
    );
    return () => {
      clearInterval(timer);
      live.watch({ probe: null });
    };
  });
  $effect(() => {
    if (probe?.result.surveyed && (probe.state === 'good' || probe.state === 'bad')) {
      found = probe.result.surveyed;
      readAt = Date.now();
    }
  });

  async function read(): Promise<void> {
    problem = null;
    const next = crypto.randomUUID();
    const request = { type: 'survey', device: data.deviceCode };
    const answer = await post('/api/probes', { id: next, request }).catch(() => null);
    if (answer === null) problem = 'The server cannot be reached.';
    else if (!answer.ok) problem = await messageOf(answer);
    else {
      id = next;
      live.watch({ probe: next, points: [], trail: null, journal: false });
    }
  }

  /** The parts of an address that have others within them, each with all before it. */
  function levels(address: string): { text: string; upTo: string }[] {
    const parts = address.replace(/\[\w+\]$/, '').split(/(?<=[/.])/);
    return parts.slice(0, -1).map((text, n) => ({ text, upTo: parts.slice(0, n + 1).join('') }));
  }
  const lastOf = (address: string): string => address.slice(levels(address).at(-1)?.upTo.length ?? 0);
  const rows = $derived((found ?? []).filter(({ address }) => address.startsWith(scope)));
  const crumbs = $derived(scope === '' ? [] : levels(`${scope}x`));

  /** A float of 32 bits has about seven digits. */
  const numberWords = (value: number): string => String(Number.isInteger(value) ? value : Number(value.toPrecision(7)));

  const columns: Column<SurveyedPoint>[] = [
    { key: 'address', title: 'Address', width: 'minmax(260px,1.6fr)', mono: true, text: ({ address }) => address },
    { key: 'kind', title: 'Kind', width: '52px', mono: true, text: ({ kind }) => KIND_WORDS[kind].short },
    { key: 'name', title: 'Called', width: 'minmax(120px,1fr)', text: ({ name = '' }) => name },
    {
      key: 'value',
      title: 'Value',
      width: 'minmax(190px,0.6fr)',
      align: 'right',
      mono: true,
      text: ({ words, value }) => words ?? (value === null ? '' : numberWords(value)),
    },
    { key: 'unit', title: 'Unit', width: '56px', text: ({ unit = '' }) => unit },
    { key: 'said', title: 'Quality', width: 'minmax(80px,0.7fr)', text: ({ said }) => said },
    {
      key: 'time',
      title: 'Time',
      width: '120px',
      align: 'right',
      mono: true,
      text: ({ time }) => (time ? clockTime(time, clock.now) : ''),
      order: ({ time }) => time ?? 0,
    },
  ];
</script>

<svelte:head><title>All that it has · {device?.name ?? data.deviceCode} · Halvix</title></svelte:head>

{#if device}
  <div class="flex min-h-[520px] grow flex-col gap-3 p-5">
    <div class="flex flex-wrap items-baseline gap-3">
      <h1>All that it has</h1>
      <a class="word" href="/run/device/{device.code}">{device.name}</a>
      <span class="text-soft"
        >{definition.words.name}: we are the {definition.words.us}, it is the {definition.words.them}</span
      >
    </div>
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    {#if probe?.result.problem}<p role="alert" class="text-alarm">{probe.result.problem}</p>{/if}
    <nav class="mono flex flex-wrap items-center gap-1 text-[13px]" aria-label="Scope">
      <button
        class="text-accent underline disabled:text-soft disabled:no-underline"
        disabled={scope === ''}
        onclick={() => (scope = '')}>{device.code}</button
      >
      {#each crumbs as { text, upTo } (upTo)}
        <span class="text-soft">›</span>
        <button
          class="text-accent underline disabled:text-ink disabled:no-underline"
          disabled={upTo === scope}
          onclick={() => (scope = upTo)}>{text.replace(/[/.]$/, '')}</button
        >
      {/each}
      <span class="ml-3 font-sans text-soft">a part of an address shows what is in it</span>
    </nav>
    <DataTable
      name="All that {device.code} has"
      {rows}
      {columns}
      rowKey={(row) => `${row.kind} ${row.address}`}
      empty={found === null ? 'Asking the device …' : 'Nothing here.'}
    >
      {#snippet tools()}
        <button class="button" disabled={isReading} onclick={() => void read()}
          >{isReading ? 'Reading …' : 'Read again'}</button
        >
        <label class="flex items-center gap-2"><input type="checkbox" bind:checked={again} /> and again every 5 s</label
        >
        {#if readAt !== null}<span class="text-soft"
            >{grouped(found?.length ?? 0, 0)} read at {clockTime(readAt, clock.now)}</span
          >{/if}
      {/snippet}
      {#snippet cell(row, column)}
        {#if column.key === 'address'}
          <span class="whitespace-nowrap" title={row.address}
            >{#each levels(row.address) as { text, upTo } (upTo)}<button
                class="cursor-pointer hover:underline"
                onclick={() => (scope = upTo)}>{text}</button
              >{/each}{lastOf(row.address)}</span
          >
        {:else if column.key === 'said'}
          <span class:text-questionable={row.said !== '' && row.said !== 'good'}>{row.said}</span>
        {:else if column.key === 'time'}
          <span title={row.time ? fullTime(row.time) : undefined}>{column.text(row)}</span>
        {:else}{column.text(row)}{/if}
      {/snippet}
    </DataTable>
  </div>
{/if}
