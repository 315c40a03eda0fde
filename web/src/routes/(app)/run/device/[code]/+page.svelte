<script lang="ts">
  import { refresh } from '$lib/refresh.ts';
  import { onward } from '$lib/onward.svelte';
  import { goto } from '$app/navigation';
  import { definitionOf, deviceOf, FIRST_PROTOCOL, inAddressOrder, numberOf } from '@halvix/core/protocols';
  import { KIND_WORDS, POINT_KINDS, TIME_SOURCE_WORDS, validity, type PointKind } from '@halvix/core/point';
  import { onMount, untrack } from 'svelte';
  import { ask, messageOf, post } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import ControlDialog from '$lib/components/ControlDialog.svelte';
  import ClockLine from '$lib/components/ClockLine.svelte';
  import CounterLine from '$lib/components/CounterLine.svelte';
  import DataTable from '$lib/components/DataTable.svelte';
  import DevicePlays from '$lib/components/DevicePlays.svelte';
  import RestartDialog from '$lib/components/RestartDialog.svelte';
  import PathStrip from '$lib/components/PathStrip.svelte';
  import {
    age,
    capital,
    clockTime,
    fullTime,
    limitPhrase,
    qualityColour,
    qualityMark,
    qualityPhrase,
    rawWords,
    readingWords,
  } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import { isOnLink } from '$lib/path.ts';
  import type { PointView } from '$lib/server/points.ts';
  import type { Column } from '$lib/table.ts';

  let { data } = $props();
  const device = $derived(data.frame.devices.find(({ code }) => code === data.deviceCode));
  const outbounds = $derived(data.frame.outbounds.filter((o) => device?.outbounds.includes(o.code)));
  const session = $derived(live.hops.devices[data.deviceCode]);
  const mayOperate = $derived(data.person.role !== 'viewer');
  let kind = $state<PointKind | 'all'>('all');
  let only = $state<'all' | 'notGood' | 'changed'>('all');
  let controlled = $state<PointView | null>(null);
  let problem = $state<string | null>(null);

  const REFRESH_MS = 4000;
  const readings = $derived.by(() => {
    const newest = { ...data.readings };
    for (const [id, reading] of Object.entries(live.points)) {
      const known = newest[Number(id)];
      if (known === undefined || known.received <= reading.received) newest[Number(id)] = reading;
    }
    return newest;
  });
  const isGood = (point: PointView): boolean => readings[point.id] !== undefined && readings[point.id].quality === 0;
  const kinds = $derived(POINT_KINDS.filter((one) => data.points.some((point) => point.kind === one)));
  const notGood = $derived(data.points.filter((point) => !isGood(point)).length);
  const rows = $derived(
    data.points.filter(
      (point) =>
        (kind === 'all' || point.kind === kind) &&
        (only !== 'notGood' || !isGood(point)) &&
        (only !== 'changed' || (readings[point.id] && clock.now - readings[point.id].time < 60_000)),
    ),
  );

  const places = $derived(new Map([...data.points].sort(inAddressOrder).map(({ id }, at) => [id, at])));
  const definition = $derived(definitionOf(device?.protocol ?? FIRST_PROTOCOL));
  const role = $derived(deviceOf(device?.protocol ?? FIRST_PROTOCOL));
  const asks = $derived(role.orders);
  const shownValue = (point: PointView): string => {
    const reading = readings[point.id];
    return reading ? readingWords(point, reading) : '–';
  };
  /** As wide as the longest of them, within reason. */
  const longest = $derived(Math.max(...data.points.map(({ address }) => address.length), 0));
  const addressWidth = $derived(`${Math.min(280, Math.max(84, longest * 8 + 30))}px`);
  /** Long addresses leave less room for the others. */
  const isTight = $derived(longest > 20);
  const columns = $derived<Column<PointView>[]>([
    {
      key: 'address',
      title: 'Address',
      width: addressWidth,
      mono: true,
      text: (p) => p.address,
      order: (p) => places.get(p.id) ?? 0,
    },
    { key: 'name', title: 'Point', width: isTight ? 'minmax(110px,1fr)' : 'minmax(150px,1.4fr)', text: (p) => p.name },
    {
      key: 'raw',
      title: 'Raw',
      width: isTight ? '84px' : '96px',
      align: 'right',
      mono: true,
      text: (p) => (readings[p.id] ? rawWords(readings[p.id].raw, readings[p.id].text) : '–'),
      order: (p) => readings[p.id]?.raw ?? 0,
    },
    {
      key: 'value',
      title: 'Value',
      width: isTight ? '92px' : 'minmax(116px,0.7fr)',
      align: 'right',
      mono: true,
      text: shownValue,
      order: (p) => readings[p.id]?.value ?? 0,
    },
    { key: 'unit', title: 'Unit', width: isTight ? '52px' : '64px', text: (p) => p.unit },
    {
      key: 'quality',
      title: 'Quality',
      width: isTight ? 'minmax(70px,1fr)' : 'minmax(150px,1.2fr)',
      text: (p) => [limitPhrase(readings[p.id]), qualityPhrase(readings[p.id], clock.now)].filter(Boolean).join(', '),
    },
    {
      key: 'time',
      title: 'Time and whose clock',
      width: isTight ? '190px' : '216px',
      align: 'right',
      mono: true,
      text: (p) =>
        readings[p.id]
          ? `${clockTime(readings[p.id].time, clock.now)} ${TIME_SOURCE_WORDS[readings[p.id].timeSource]}`
          : '–',
      order: (p) => readings[p.id]?.time ?? 0,
    },
    {
      key: 'received',
      title: 'Last seen',
      width: '96px',
      align: 'right',
      mono: true,
      hidden: true,
      text: (p) => (readings[p.id] ? age(clock.now - readings[p.id].received) : '–'),
    },
    { key: 'trail', title: 'Trail', width: isTight ? '88px' : '96px', actions: true, text: () => '' },
  ]);

  onMount(() => {
    live.seed(data.readings);
    // What is out of sight is looked at too, more rarely: it is counted and filtered.
    const timer = setInterval(
      () => document.visibilityState === 'visible' && void refresh('halvix:device-points'),
      REFRESH_MS,
    );
    return () => {
      clearInterval(timer);
      live.watch({ points: [] });
    };
  });

  let watched = '';
  function onVisible(inSight: PointView[]): void {
    const ids = inSight.map(({ id }) => id);
    if (ids.join() === watched) return;
    watched = ids.join();
    untrack(() => live.watch({ points: ids, trail: null, journal: false }));
  }

  let ordered = $state<string | null>(null);
  let restarting = $state(false);
  let plays = $state(false);
  const playing = $derived(session?.playing ?? []);
  async function order(wanted: unknown): Promise<void> {
    problem = await ask({ type: 'order', device: data.deviceCode, order: wanted as never, by: '' });
    ordered = problem === null ? 'Asked. What the device answers is written in the last events of the board.' : null;
  }

  /** Points that come and that the list lacks go into the draft, named after their addresses. */
  async function takeUnlisted(): Promise<void> {
    const goOn = onward();
    const answer = await post('/api/unlisted', { device: data.deviceCode }).catch(() => null);
    problem = answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
    if (answer?.ok) await goOn(`/build/points?device=${data.deviceCode}`);
  }

  async function askFor(type: 'pollNow' | 'resetCounters'): Promise<void> {
    problem = await ask({ type, device: data.deviceCode });
  }

  const seconds = (ms: number): string => (ms === 0 ? 'never' : `every ${ms / 1000} s`);
</script>

<svelte:head><title>{device?.name ?? data.deviceCode} · Halvix</title></svelte:head>

{#if device}
  <div class="flex min-h-[520px] grow flex-col gap-3 p-5">
    <div class="flex items-baseline gap-3">
      <h1>{device.name}</h1>
      <span class="text-soft"
        >{device.code} · {data.description || 'device'} · {isOnLink(device)
          ? `${definition.words.name}: we are the ${definition.words.us}, it is the ${definition.words.them}`
          : `${definition.words.name}: ${definition.words.them}`}</span
      >
    </div>
    <PathStrip {device} {outbounds} />
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    {#if playing.length > 0}
      <p role="status" class="text-forced" data-testid="playing">
        {playing.length === 1 ? '1 value is' : `${playing.length} values are`} made up here: {playing
          .slice(0, 3)
          .map(({ point, words }) => `${point} (${words})`)
          .join(', ')}{playing.length > 3 ? ` and ${playing.length - 3} more` : ''}.
      </p>
    {/if}
    <DataTable
      name="Points of {device.code}"
      {rows}
      {columns}
      rowKey={(p) => p.id}
      open={(p) => void goto(`/run/point/${p.id}`)}
      visible={onVisible}
      empty="This device has no points in its list."
    >
      {#snippet tools()}
        <select class="field" aria-label="Kind" bind:value={kind}>
          <option value="all">All kinds</option>
          {#each kinds as one (one)}<option value={one}>{KIND_WORDS[one].many}</option>{/each}
        </select>
        <button
          class="button"
          aria-pressed={only === 'notGood'}
          onclick={() => (only = only === 'notGood' ? 'all' : 'notGood')}>Not good: {notGood}</button
        >
        <button
          class="button"
          aria-pressed={only === 'changed'}
          onclick={() => (only = only === 'changed' ? 'all' : 'changed')}>Changed in the last minute</button
        >
        {#if mayOperate && isOnLink(device)}<button class="button" onclick={() => void askFor('pollNow')}
            >Poll now</button
          >{/if}
        {#if device.life === 'onTest' && isOnLink(device) && data.person.role === 'engineer'}<button
            class="button"
            onclick={() => (plays = true)}>Play values…</button
          >{/if}
      {/snippet}
      {#snippet cell(point, column)}
        {@const reading = readings[point.id]}
        {#if column.key === 'name'}
          <a class="plain hover:underline" href="/run/point/{point.id}">{point.name}</a>
        {:else if column.key === 'value'}
          <span
            title={reading?.text === undefined ? undefined : shownValue(point)}
            class={reading ? qualityMark(reading.quality) : ''}
            class:text-lost={reading && validity(reading.quality) === 'invalid'}
            data-testid="value-{point.kind}-{numberOf(point) ?? point.address}">{shownValue(point)}</span
          >
        {:else if column.key === 'raw'}
          <span class="text-soft">{column.text(point)}</span>
        {:else if column.key === 'quality'}
          <span
            class={reading ? qualityColour(reading.quality) : 'text-lost'}
            data-testid="quality-{point.kind}-{numberOf(point) ?? point.address}"
            >{qualityPhrase(reading, clock.now)}</span
          >
          {#if reading?.limit}<b class="font-medium text-alarm">{limitPhrase(reading)}</b>{/if}
        {:else if column.key === 'time'}
          {#if reading}
            <span
              title="{fullTime(reading.time)}; received {fullTime(reading.received)}"
              data-testid="time-{point.kind}-{numberOf(point) ?? point.address}"
            >
              {clockTime(reading.time, clock.now)}
              <span class="text-soft">{TIME_SOURCE_WORDS[reading.timeSource]}</span>
            </span>
          {:else}–{/if}
        {:else if column.key === 'trail'}
          {#if (point.control || point.setting) && mayOperate}
            <button class="cursor-pointer text-accent underline" onclick={() => (controlled = point)}>operate…</button>
          {:else}
            <a class="text-accent" href="/run/point/{point.id}" aria-label="Trail of {point.name}">trail ›</a>
          {/if}
        {:else}{column.text(point)}{/if}
      {/snippet}
    </DataTable>
    {#if session}
      <CounterLine
        counters={session.counters}
        since={session.countersSince}
        counted={definition.counters}
        always={definition.counters.device}
        reset={mayOperate ? () => void askFor('resetCounters') : undefined}
      />
      {#if role.details}
        <p class="text-[12.5px]">
          <a class="word" href="/run/device/{device.code}/session">{role.details}</a>
        </p>
      {/if}
      <p class="text-[12.5px] text-soft">
        {capital(
          data.polls.map(({ what, everyMs }) => `${what} ${seconds(everyMs)}`).join(', '),
        )}{#if session.nextIntegrity && session.state === 'answering'}, next in {age(
            session.nextIntegrity - clock.now,
          )}{/if}.
        {#if session.indications.length > 0}The device says: {session.indications.join(', ')}.{/if}
      </p>
      {#if session.learned}<p class="text-[12.5px]" data-testid="learned">
          What it takes was learned: {session.learned}.
        </p>{/if}
      {#if session.stranger && session.state !== 'answering'}
        <p class="text-alarm" data-testid="stranger">
          Address {session.stranger.address} answers on this link, {device.theirAddress} is asked{session.stranger
            .destination === device.ourAddress
            ? ''
            : `; it answers to ${session.stranger.destination}, we are ${device.ourAddress}`}.
          <a class="word" href="/build/device/{device.code}">Put the addresses right</a>
        </p>
      {/if}
      {#if session.unlisted > 0}
        <p class="flex flex-wrap items-center gap-2" data-testid="unlisted">
          {session.unlisted === 1 ? '1 point comes' : `${session.unlisted} points come`} that the list lacks.
          {#if data.person.role === 'engineer'}<button class="button" onclick={() => void takeUnlisted()}
              >Take {session.unlisted === 1 ? 'it' : 'them'} into the draft</button
            >{/if}
        </p>
      {/if}
      {#if session.clock}<ClockLine clocks={session.clockPast} latest={session.clock} />{/if}
      {#if mayOperate}
        <p class="flex flex-wrap items-center gap-2 text-[12.5px]">
          <span class="text-soft">Ask the device to</span>
          {#each asks.asks.filter((one) => data.person.role === 'engineer' || !asks.changes(one.order)) as { words, order: wanted } (words)}
            <button class="button" onclick={() => void order(wanted)}>{words}</button>
          {/each}
          {#if asks.restart && data.person.role === 'engineer'}
            <button class="button" onclick={() => (restarting = true)}>restart…</button>
          {/if}
          {#if asks.files}<a class="button plain" href="/run/device/{device.code}/files">give its files…</a>{/if}
          {#if data.person.role === 'engineer' && isOnLink(device)}
            <a class="button plain" href="/run/device/{device.code}/model">tell all that it has…</a>
            {#if asks.inquiry}<a class="button plain" href="/run/device/{device.code}/ask">{asks.inquiry.words}…</a
              >{/if}
          {/if}
          {#if ordered}<span role="status">{ordered}</span>{/if}
        </p>
      {/if}
    {/if}
  </div>
  {#if restarting}
    <RestartDialog
      device={device.name}
      close={() => (restarting = false)}
      restart={(how) => {
        restarting = false;
        void order(asks.restart?.(how));
      }}
    />
  {/if}
  {#if plays}
    <DevicePlays
      code={device.code}
      points={data.points}
      valueOf={(id) => readings[id]?.value ?? null}
      passOn={data.passOn}
      close={() => (plays = false)}
    />
  {/if}
  {#if controlled}
    <ControlDialog point={controlled} {device} close={() => (controlled = null)} />
  {/if}
{/if}
