<script lang="ts">
  import { FIRST_PROTOCOL, deviceOf } from '@halvix/core/protocols';
  import { goto } from '$app/navigation';
  import { onMount, untrack } from 'svelte';
  import { ask } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import DataTable from '$lib/components/DataTable.svelte';
  import LineStrip from '$lib/components/LineStrip.svelte';
  import { age } from '$lib/format.ts';
  import { lineUse, roundMs } from '$lib/lane.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import { devicePath, engineHop, outboundHop } from '$lib/path.ts';
  import type { Column } from '$lib/table.ts';

  let { data } = $props();
  const { link } = $derived(data);
  const state_ = $derived(live.hops.links[link.code]);
  const lane = $derived(live.lane);
  const devices = $derived(data.frame.devices.filter((device) => device.link.code === link.code));
  const centres = $derived(data.frame.outbounds.filter((outbound) => outbound.link === link.code));
  const codes = $derived(devices.map(({ code }) => code));
  const takesTurns = $derived(deviceOf(devices[0]?.protocol ?? FIRST_PROTOCOL).takesTurns);
  const use = $derived(lane ? lineUse(lane) : null);
  const round = $derived(lane ? roundMs(lane) : null);
  const percent = (share: number): string => `${(share * 100).toFixed(share < 0.1 ? 1 : 0)} %`;
  let problem = $state<string | null>(null);
  let spanMs = $state(15_000);

  onMount(() => {
    untrack(() => live.watch({ points: [], trail: null, journal: false, lane: link.code }));
    return () => live.watch({ lane: null });
  });

  const headline = $derived.by((): string => {
    if (state_ === undefined) return 'This link has not been started yet';
    if (state_.state === 'resting' && centres.length > 0) return 'Open, and no centre is connected now';
    if (state_.state === 'resting') return 'Between calls: nobody is connected now';
    if (state_.state !== 'connected')
      return `Not connected: ${state_.problem ?? 'connecting'}${state_.nextTry ? `, next try in ${age(state_.nextTry - clock.now)}` : ''}`;
    if (centres.length > 0 && devices.length > 0)
      return `Connected for ${age(clock.now - state_.since)}; what is device and what is centre are one party on it`;
    if (centres.length > 0)
      return link.type === 'tcpServer'
        ? `Connected for ${age(clock.now - state_.since)}`
        : `Open for ${age(clock.now - state_.since)}`;
    if (!takesTurns) return `Connected for ${age(clock.now - state_.since)}; its device has the connection for itself`;
    if (round === null) return 'Connected; nobody has been asked yet';
    const every = `Each device is asked every ${round < 1000 ? `${Math.round(round)} ms` : `${(round / 1000).toFixed(1)} s`} or sooner`;
    return use && link.line.bitRate > 0 ? `${every}; the line is in use ${percent(1 - use.idle)} of the time` : every;
  });

  type Row = (typeof devices)[number];
  const of = (row: Row): NonNullable<typeof lane>['devices'][string] | undefined => lane?.devices[row.code];
  const clockWords = (row: Row): string => {
    const clock_ = live.hops.devices[row.code]?.clock;
    if (!clock_) return 'not compared';
    const { offsetMs, uncertaintyMs } = clock_;
    if (Math.abs(offsetMs) <= uncertaintyMs) return `right, ± ${uncertaintyMs} ms`;
    return `${offsetMs > 0 ? '+' : '−'}${Math.abs(offsetMs)} ms ± ${uncertaintyMs}`;
  };
  /** Classes of which the device says that it holds events. */
  const waiting = (row: Row): string => {
    const classes = (live.hops.devices[row.code]?.indications ?? [])
      .filter((words) => words.endsWith('events wait'))
      .map((words) => words.replace(/\D/g, ''));
    return classes.length > 0 ? `class ${classes.join(', ')}` : '';
  };
  const OF_TURNS = ['address', 'cycle', 'turns', 'silent', 'line', 'waiting'];
  const ALL_COLUMNS: Column<Row>[] = [
    { key: 'code', title: 'Device', width: '92px', mono: true, text: (row) => row.code },
    { key: 'name', title: 'Name', width: 'minmax(120px,1fr)', text: (row) => row.name },
    {
      key: 'address',
      title: 'Address',
      width: '76px',
      align: 'right',
      mono: true,
      text: (row) => String(row.theirAddress ?? '–'),
    },
    {
      key: 'state',
      title: 'State',
      width: 'minmax(150px,1.2fr)',
      text: (row) => devicePath(row, [], live.hops, clock.now).device.words,
    },
    {
      key: 'cycle',
      title: 'Asked every',
      width: '100px',
      align: 'right',
      mono: true,
      text: (row) => (of(row)?.cycleMs == null ? '–' : `${Math.round(of(row)?.cycleMs ?? 0)} ms`),
      order: (row) => of(row)?.cycleMs ?? 0,
    },
    {
      key: 'turns',
      title: 'Turns',
      width: '80px',
      align: 'right',
      mono: true,
      text: (row) => String(of(row)?.turns ?? 0),
      order: (row) => of(row)?.turns ?? 0,
    },
    {
      key: 'silent',
      title: 'Time-outs',
      width: '88px',
      align: 'right',
      mono: true,
      text: (row) => String(of(row)?.silentTurns ?? 0),
      order: (row) => of(row)?.silentTurns ?? 0,
    },
    {
      key: 'line',
      title: 'Line time',
      width: '92px',
      align: 'right',
      mono: true,
      text: (row) => `${((of(row)?.lineMs ?? 0) / 1000).toFixed(1)} s`,
      order: (row) => of(row)?.lineMs ?? 0,
    },
    { key: 'waiting', title: 'Not fetched', width: '104px', text: waiting },
    { key: 'clock', title: 'Its clock', width: '136px', mono: true, text: clockWords },
  ];
  const columns = $derived(ALL_COLUMNS.filter(({ key }) => takesTurns || !OF_TURNS.includes(key)));

  let told = $state<string | null>(null);
  const orders = $derived(deviceOf(devices[0]?.protocol ?? FIRST_PROTOCOL).orders);
  const broadcasts = $derived(
    orders.broadcasts.filter(({ order }) => data.person.role === 'engineer' || !orders.changes(order)),
  );
  /** Goes out in the name of a device that answers; the others hear it as well. */
  async function tellAll(order: unknown): Promise<void> {
    const speaker = codes.find((code) => live.hops.devices[code]?.state === 'answering') ?? codes[0];
    problem = await ask({ type: 'order', device: speaker, order: order as never, by: '' });
    told = problem === null ? 'Said. A broadcast is not answered: the readings show what came of it.' : null;
  }
</script>

<svelte:head><title>{link.name} · Halvix</title></svelte:head>

<div class="flex min-h-[520px] grow flex-col gap-3 p-5">
  <div class="flex flex-wrap items-baseline gap-3">
    <h1>{link.name}</h1>
    <span class="text-soft"
      >{link.code} · {link.endpoint}{link.line.bitRate > 0
        ? ` · ${link.line.bitRate} bit/s, ${link.bitsPerOctet} bits an octet`
        : ''}{link.line.keyUpMs > 0
        ? ` · keyed ${link.line.keyUpMs} ms before, ${link.line.keyDownMs} ms after`
        : ''}</span
    >
    <span class="grow"></span>
    {#if link.calls.when === 'onDemand' && data.person.role !== 'viewer'}
      <button class="button" onclick={async () => (problem = await ask({ type: 'callNow', link: link.code }))}
        >Call now</button
      >
    {/if}
  </div>
  <p class="text-[16px]" data-testid="link-words">{headline}.</p>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if centres.length > 0}
    <table class="panel max-w-[820px]" aria-label="Centres on {link.code}">
      <tbody class="[&_td]:border-t [&_td]:border-rule/70 [&_td]:py-1.5 [&_td]:pr-3">
        {#each centres as centre (centre.code)}
          {@const hop = outboundHop(live.hops, centre.code, engineHop(live.hops, clock.now), clock.now)}
          <tr
            ><td class="mono px-3"><a class="word" href="/run/outbound/{centre.code}">{centre.code}</a></td><td
              >{centre.centre}, {centre.name}</td
            ><td class="mono">{live.hops.outbounds[centre.code]?.connectedFrom ?? ''}</td><td
              class:text-lost={hop.state === 'lost'}>{hop.words}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  {:else if !takesTurns}
    <p class="text-soft">What goes over it is seen with the device.</p>
  {:else if lane}
    {#if use && use.overMs > 0 && link.line.bitRate > 0}
      <div class="flex max-w-[980px] flex-col gap-1">
        <div class="flex h-[14px] overflow-hidden rounded-[3px] border border-rule" aria-hidden="true">
          <span style="width: {use.sending * 100}%; background: var(--ink)"></span>
          <span style="width: {use.waiting * 100}%; background: var(--rule)"></span>
          <span style="width: {use.receiving * 100}%; background: var(--accent)"></span>
          <span style="width: {use.turning * 100}%; background: var(--soft)"></span>
        </div>
        <p class="flex flex-wrap gap-x-5 text-[12.5px]" data-testid="line-use">
          <span class="text-soft">Of the last {Math.round(use.overMs / 1000)} s:</span>
          <span><i class="key" style="background: var(--ink)"></i> asking {percent(use.sending)}</span>
          <span><i class="key" style="background: var(--rule)"></i> waiting {percent(use.waiting)}</span>
          <span><i class="key" style="background: var(--accent)"></i> being answered {percent(use.receiving)}</span>
          <span><i class="key" style="background: var(--soft)"></i> turning round {percent(use.turning)}</span>
          <span class="text-soft">idle {percent(use.idle)}</span>
        </p>
      </div>
    {/if}
    <div class="flex items-center gap-2">
      <h2 class="grow text-[15px] font-semibold">Who had the line</h2>
      {#each [[5000, '5 s'], [15_000, '15 s'], [60_000, '1 min']] as const as [ms, words] (ms)}
        <button class="button" aria-pressed={spanMs === ms} onclick={() => (spanMs = ms)}>{words}</button>
      {/each}
    </div>
    <LineStrip {lane} devices={codes} {spanMs} />
    <p class="text-[12.5px] text-soft" data-testid="line-queue">
      {lane.queue.length === 0
        ? 'Nobody waits for the line.'
        : `Waiting for the line: ${lane.queue.map(({ device, words }) => `${device}, ${words}`).join('; ')}.`}
      {#if lane.otherFrames > 0}{lane.otherFrames} frames were not for us.{/if}
      {#if lane.badFrames > 0}{lane.badFrames} times garbage or a wrong checksum.{/if}
    </p>
  {:else}<p class="text-soft">Asking the engine for its lane …</p>{/if}
  {#if centres.length === 0 || devices.length > 0}
    <DataTable
      name="Devices on {link.code}"
      rows={devices}
      {columns}
      rowKey={(row) => row.code}
      open={(row) => void goto(`/run/device/${row.code}`)}
      empty="No device uses this link."
    >
      {#snippet cell(row, column)}
        {#if column.key === 'name'}<a class="plain hover:underline" href="/run/device/{row.code}">{row.name}</a>
        {:else if column.key === 'state'}
          {@const hop = devicePath(row, [], live.hops, clock.now).device}
          <span class:text-lost={hop.state === 'lost'}
            >{hop.state === 'good' ? `answered ${hop.words} ago` : hop.words}</span
          >
        {:else if column.key === 'silent'}<span class:text-questionable={(of(row)?.silentTurns ?? 0) > 0}
            >{column.text(row)}</span
          >
        {:else}{column.text(row)}{/if}
      {/snippet}
    </DataTable>
  {/if}
  {#if devices.length > 1 && broadcasts.length > 0 && data.person.role !== 'viewer'}
    <p class="flex flex-wrap items-center gap-2 text-[12.5px]">
      <span class="text-soft">Tell all devices at once, by broadcast, to</span>
      {#each broadcasts as { words, order } (words)}
        <button class="button" onclick={() => void tellAll(order)}>{words}</button>
      {/each}
      {#if told}<span role="status">{told}</span>{/if}
    </p>
  {/if}
</div>

<style>
  .key {
    display: inline-block;
    width: 9px;
    height: 9px;
    border-radius: 2px;
  }
</style>
