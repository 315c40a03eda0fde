<script lang="ts">
  import { definitionOf, wayOut, FIRST_PROTOCOL } from '@halvix/core/protocols';
  import { outboundDetails } from '@halvix/core/path';
  import { onMount } from 'svelte';
  import { ask } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import CounterLine from '$lib/components/CounterLine.svelte';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';
  import SentPackets from '$lib/components/SentPackets.svelte';
  import DetailTables from '$lib/components/DetailTables.svelte';
  import { age, clockTime } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import { engineHop, outboundHop } from '$lib/path.ts';

  let { data } = $props();
  const outbound = $derived(data.frame.outbounds.find(({ code }) => code === data.outboundCode));
  const definition = $derived(definitionOf(outbound?.protocol ?? FIRST_PROTOCOL));
  const way = $derived(wayOut(outbound?.protocol ?? FIRST_PROTOCOL));
  const session = $derived(live.hops.outbounds[data.outboundCode]);
  const hop = $derived(outboundHop(live.hops, data.outboundCode, engineHop(live.hops, clock.now), clock.now));
  let problem = $state<string | null>(null);
  const ago = (time: number | null | undefined): string => (time ? `${age(clock.now - time)} ago` : 'never');

  const orders = $derived(Object.entries(way?.orders ?? {}));
  let ordered = $state<string | null>(null);
  /** What is to be done once more is said. */
  let doubted = $state<string | null>(null);
  let texts = $state<Record<string, string>>({});
  async function order(wanted: string): Promise<void> {
    const text = texts[wanted] ?? '';
    problem = await ask({ type: 'outboundOrder', outbound: data.outboundCode, order: wanted, text, by: '' });
    if (problem === null) texts = { ...texts, [wanted]: '' };
    ordered = problem === null ? 'Asked. What came of it is written in the last events of the board.' : null;
  }

  onMount(() => {
    live.watch({ points: [], trail: null, journal: false, detail: outboundDetails(data.outboundCode) });
    return () => live.watch({ detail: null });
  });
</script>

<svelte:head><title>{outbound?.centre} · Halvix</title></svelte:head>

{#if outbound}
  <div class="flex flex-col gap-4 p-5">
    <div class="flex items-baseline gap-3">
      <h1>{outbound.centre}</h1>
      <span class="text-soft"
        >{outbound.code} · {outbound.name} · {definition.publishes
          ? `${definition.words.name}: we are the ${definition.words.us}`
          : `it is the ${definition.words.us}, we are the ${definition.words.them}`}</span
      >
    </div>
    <p class={hop.state === 'lost' ? 'text-lost' : ''} data-testid="outbound-words">{outbound.centre}: {hop.words}.</p>
    {#if session?.lastProblem}
      <p class="text-questionable" data-testid="outbound-problem">
        {clockTime(session.lastProblem.time, clock.now)}
        {session.lastProblem.words}
      </p>
    {/if}
    <table class="panel max-w-[820px]">
      <thead class="text-left text-[12px] text-soft"
        ><tr class="border-b border-rule"
          ><th class="px-3 py-1.5 font-normal"></th><th class="font-normal">Our end</th><th class="font-normal"
            >Their end, as it must be set there</th
          ></tr
        ></thead
      >
      <tbody class="[&_td]:border-t [&_td]:border-rule/70 [&_td]:py-1.5 [&_td]:pr-3">
        <tr
          ><td class="px-3 text-soft">{data.link === '' ? 'Way' : 'Link'}</td><td
            >{#if data.link !== ''}<a class="word mono" href="/run/link/{data.link}">{data.link}</a> ·
            {/if}{outbound.way}</td
          ><td class="mono">{session?.connectedFrom ?? 'not connected'}</td></tr
        >
        <tr
          ><td class="px-3 text-soft">Points</td><td>{outbound.mapped} mapped</td><td
            >{definition.publishes ? '' : `last asked ${ago(session?.lastHeard)}, `}last confirmed {ago(
              session?.lastConfirmed,
            )}</td
          ></tr
        >
        <tr
          ><td class="px-3 text-soft">Waiting</td><td colspan="2"
            >{session?.eventsWaiting ?? 0} {session?.eventsWaiting === 1 ? 'change waits' : 'changes wait'} for it</td
          ></tr
        >
        {#each data.ends as { what, ours, theirs } (what)}
          <tr><td class="px-3 text-soft">{what}</td><td>{ours}</td><td>{theirs}</td></tr>
        {/each}
        {#if data.link !== ''}<tr
            ><td class="px-3 text-soft">Connections</td><td colspan="2">{session?.connectionsRefused ?? 0} refused</td
            ></tr
          >{/if}
      </tbody>
    </table>
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    {#if session}
      <CounterLine
        counters={session.counters}
        since={session.countersSince}
        counted={definition.counters}
        always={definition.counters.outbound}
        extra={data.link === '' ? [] : [['connections refused', session.connectionsRefused]]}
        reset={data.person.role === 'viewer'
          ? undefined
          : async () => (problem = await ask({ type: 'resetOutboundCounters', outbound: data.outboundCode }))}
      />
    {/if}
    {#if definition.publishes}
      {#key outbound.code}
        <SentPackets code={outbound.code} centre={outbound.centre} maySend={data.person.role !== 'viewer'} />
      {/key}
    {/if}
    {#if way?.details}<DetailTables tables={live.detail?.tables ?? []} />{/if}
    {#if orders.length > 0 && data.person.role !== 'viewer'}
      <p class="flex flex-wrap items-center gap-2 text-[12.5px]">
        <span class="text-soft">Have our end</span>
        {#each orders as [key, { words, text, careful }] (key)}
          {#if text !== undefined}
            <input
              class="field w-[260px]!"
              aria-label={text}
              placeholder={text}
              maxlength="2000"
              bind:value={texts[key]}
            />
          {/if}
          <button
            class="button"
            disabled={text !== undefined && !texts[key]?.trim()}
            onclick={() => (careful === undefined ? void order(key) : (doubted = key))}
            >{words}{careful === undefined ? '' : '…'}</button
          >
        {/each}
        {#if ordered}<span role="status">{ordered}</span>{/if}
      </p>
    {/if}
    <p><a class="word" href="/build/outbound/{outbound.code}">Mapping to {outbound.centre}</a></p>
  </div>
{/if}

{#if doubted !== null && outbound}
  {@const { words = '', careful = '' } = way?.orders?.[doubted] ?? {}}
  <Sheet title="{outbound.centre}: {words}" about={careful} close={() => (doubted = null)}>
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (doubted = null)}>Leave them</button>
      <button
        class="button first"
        onclick={() => {
          const wanted = doubted ?? '';
          doubted = null;
          void order(wanted);
        }}>{words}</button
      >
    </div>
  </Sheet>
{/if}
