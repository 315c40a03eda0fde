<script lang="ts">
  import { refresh } from '$lib/refresh.ts';
  import { TIME_SOURCE_WORDS, qualityWords, type TimeSource } from '@halvix/core/point';
  import { onMount, untrack } from 'svelte';
  import { clock } from '$lib/clock.svelte.ts';
  import ControlDialog from '$lib/components/ControlDialog.svelte';
  import Octets from '$lib/components/Octets.svelte';
  import TrailCard from '$lib/components/TrailCard.svelte';
  import {
    age,
    clockTime,
    fullTime,
    grouped,
    qualityColour,
    qualityMark,
    qualityPhrase,
    rawWords,
    readingWords,
  } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';

  let { data } = $props();
  const { point } = $derived(data);
  const device = $derived(data.frame.devices.find(({ code }) => code === data.deviceCode));
  const reading = $derived(live.points[point.id] ?? data.readings[point.id]);
  const trail = $derived(live.trail?.pointId === point.id ? live.trail : data.trail);
  let controlling = $state(false);
  const feedbackId = $derived(point.control?.feedback?.pointId ?? point.setting?.follows.pointId ?? null);

  $effect(() => {
    const points = [point.id, ...(feedbackId === null ? [] : [feedbackId])];
    untrack(() => live.watch({ points, trail: point.id, journal: false }));
  });
  onMount(() => {
    live.seed(data.readings);
    return () => live.watch({ points: [], trail: null });
  });

  // A new reading makes the list of earlier ones grow: read it again, at most every other second.
  let refreshAt = 0;
  $effect(() => {
    if (reading === undefined || reading.received <= (data.earlier[0]?.received ?? 0)) return;
    const now = Date.now();
    if (now < refreshAt) return;
    refreshAt = now + 2000;
    setTimeout(() => void refresh('halvix:earlier'), 500);
  });

  const owner = $derived(device?.name ?? data.deviceCode);
  const start = $derived(trail?.reading.time ?? 0);
  const ownClock = $derived(
    trail !== null && (trail.reading.timeSource === 'device' || trail.reading.timeSource === 'deviceUnsynchronised'),
  );
  const after = (time: number | null | undefined): string =>
    time === null || time === undefined ? '' : `${time >= start ? '+' : '−'}${Math.abs(time - start)} ms`;
  const centreOf = (code: string): string => data.frame.outbounds.find((o) => o.code === code)?.centre ?? code;

  /** What happened to the value, in plain words. */
  const story = $derived.by(() => {
    if (trail === null) return [];
    if (trail.frames === null && trail.reading.cause === 'engine')
      return [`There is no communication with ${owner}; the value is the last one it gave.`];
    const began = ownClock ? `after ${owner} measured it` : 'after it was read';
    return trail.outbounds.map(({ code, reported, confirmed, eventNumber }) => {
      const centre = centreOf(code);
      if (confirmed !== null) return `Reached ${centre} ${confirmed - start} ms ${began}, and ${centre} confirmed it.`;
      if (reported !== null)
        return eventNumber === null
          ? `${centre} read it ${age(clock.now - reported)} ago with all present values.`
          : `Sent to ${centre}; its confirm has not come yet.`;
      return eventNumber === null
        ? `${centre} has not read it yet.`
        : `${centre} has not fetched it yet; it waits there as event ${eventNumber}.`;
    });
  });

  interface Stop {
    at: number;
    words: string;
  }
  const stops = $derived.by((): Stop[] => {
    if (trail === null || trail.frames === null) return [];
    const list: Stop[] = [{ at: start, words: ownClock ? 'measured' : 'read' }];
    if (ownClock) list.push({ at: trail.reading.received, words: 'received' });
    if (trail.committed !== null) list.push({ at: trail.committed, words: 'stored' });
    const confirmed = trail.outbounds.map(({ confirmed }) => confirmed).filter((time) => time !== null);
    if (confirmed.length > 0) list.push({ at: Math.max(...confirmed), words: 'confirmed' });
    return list.sort((a, b) => a.at - b.at);
  });
  /** Positions along the axis: each stop has room for its words, longer waits are longer. */
  const places = $derived.by(() => {
    const gaps = stops.slice(1).map((stop, i) => 1 + Math.log10(1 + Math.max(0, stop.at - stops[i].at)));
    const total = gaps.reduce((sum, gap) => sum + gap, 0) || 1;
    let at = 0;
    return stops.map((_, i) => (i === 0 ? 0 : ((at += gaps[i - 1]), (at / total) * 100)));
  });
</script>

<svelte:head><title>{point.name} · {data.deviceCode} · Halvix</title></svelte:head>

<div class="flex flex-col gap-4 p-5">
  <div class="flex flex-wrap items-baseline gap-3">
    <h1>{point.name}</h1>
    <span class="text-soft"
      ><a class="word" href="/run/device/{data.deviceCode}">{data.deviceCode} {owner}</a> · {point.address}</span
    >
    <span class="grow"></span>
    {#if (point.control || point.setting) && data.person.role !== 'viewer'}<button
        class="button"
        onclick={() => (controlling = true)}>Operate…</button
      >{/if}
    <a class="button plain" href="/run/history/{point.id}">History</a>
    <span class="mono text-[20px]! {reading ? qualityMark(reading.quality) : ''}" data-testid="point-value">
      {reading ? readingWords(point, reading) : '–'}
    </span>
    <span class="mono text-soft">{point.unit}</span>
  </div>

  <div data-testid="story">
    {#if reading && reading.quality !== 0}<p class={qualityColour(reading.quality)}>
        {qualityPhrase(reading, clock.now)}
      </p>{/if}
    {#each story as sentence, i (i)}<p>{sentence}</p>{/each}
    {#if trail === null}<p class="text-soft">
        {reading ? 'The engine has not told the trail yet.' : 'This point has never answered.'}
      </p>{/if}
  </div>

  {#if stops.length > 1}
    <div
      class="relative mx-10 h-[52px]"
      role="img"
      aria-label="Time axis: {stops.map((stop) => `${stop.words} ${after(stop.at)}`).join(', ')}"
    >
      <div class="absolute top-[31px] right-0 left-0 h-[2px] bg-ink"></div>
      {#each stops as stop, i (i)}
        <div class="absolute top-0 -translate-x-1/2 text-center whitespace-nowrap" style="left: {places[i]}%">
          <div class="mono">{i === 0 ? clockTime(stop.at, clock.now) : after(stop.at)}</div>
          <div class="mx-auto mt-[5px] h-[11px] w-[11px] rounded-full bg-ink"></div>
          <div class="text-[12px] text-soft">{stop.words}</div>
        </div>
      {/each}
    </div>
  {/if}

  {#if trail}
    <div class="grid gap-2 lg:grid-cols-[minmax(290px,1.75fr)_1.1fr_1.05fr_1.1fr_1.3fr]">
      <TrailCard title="Octets" note={trail.frames ? after(trail.reading.received) : ''}>
        {#if trail.frames}
          <Octets frames={trail.frames} />
          {#if trail.message}<p class="mt-2 text-[12.5px] text-soft">{trail.message}</p>{/if}
          {#if trail.frames[0]?.bit !== null}<p class="mt-1 text-[12.5px]">
              The point is bit {trail.frames[0].bit} of the marked octet.
            </p>{/if}
        {:else}<p class="text-soft">
            {trail.reading.cause === 'engine'
              ? 'No frame carried this: the engine noticed that the device is out of reach.'
              : 'The frame is not kept any more.'}
          </p>{/if}
      </TrailCard>
      <TrailCard title="Decoded">
        <dl class="facts">
          <dt>object</dt>
          <dd>{trail.object ?? '–'}</dd>
          <dt>raw</dt>
          <dd>{rawWords(trail.reading.raw, trail.reading.text)}</dd>
          <dt>flags</dt>
          <dd>{trail.said ?? '–'}</dd>
          <dt>time</dt>
          <dd title={fullTime(trail.reading.time)}>{clockTime(trail.reading.time, clock.now)}</dd>
          <dt>clock</dt>
          <dd>{TIME_SOURCE_WORDS[trail.reading.timeSource as TimeSource]}</dd>
          <dt>from</dt>
          <dd>{{ event: 'event poll', static: 'present value', engine: 'engine' }[trail.reading.cause]}</dd>
        </dl>
      </TrailCard>
      <TrailCard title="Scaled">
        <dl class="facts">
          {#if point.states}
            <dt>states</dt>
            <dd>0 {point.states[0]}, 1 {point.states[1]}</dd>
          {:else if point.kind !== 'text'}
            <dt>line</dt>
            <dd>× {point.gain}{point.offset ? ` + ${point.offset}` : ''}</dd>
          {/if}
          <dt>value</dt>
          <dd>{readingWords(point, trail.reading)} {point.unit}</dd>
          <dt>quality</dt>
          <dd>{qualityWords(trail.reading.quality) || 'good'}</dd>
        </dl>
      </TrailCard>
      <TrailCard title="Kept" note={after(trail.committed)}>
        <dl class="facts">
          <dt>received</dt>
          <dd title={fullTime(trail.reading.received)}>{clockTime(trail.reading.received, clock.now)}</dd>
          <dt>stored</dt>
          <dd title={trail.committed === null ? undefined : fullTime(trail.committed)}>
            {trail.committed === null ? '–' : clockTime(trail.committed, clock.now)}
          </dd>
          <dt>batch</dt>
          <dd>{trail.batch === null ? '–' : `${trail.batch} ${trail.batch === 1 ? 'reading' : 'readings'}`}</dd>
        </dl>
      </TrailCard>
      <TrailCard title="Sent">
        {#each trail.outbounds as sent, i (i)}
          <dl class="facts mb-3" data-testid="sent-{sent.code}">
            <dt class="font-semibold text-ink!">{centreOf(sent.code)}</dt>
            <dd>{sent.object}</dd>
            <dt>value</dt>
            <dd>{rawWords(sent.value, trail.reading.text)}</dd>
            <dt>flags</dt>
            <dd>{sent.said}</dd>
            <dt>reported</dt>
            <dd>
              {sent.reported === null
                ? sent.eventNumber === null
                  ? 'not yet read'
                  : `waits, event ${sent.eventNumber}`
                : clockTime(sent.reported, clock.now)}
            </dd>
            <dt>confirmed</dt>
            <dd>
              {sent.confirmed === null
                ? sent.reported !== null && sent.eventNumber === null
                  ? 'not needed'
                  : '–'
                : `${clockTime(sent.confirmed, clock.now)}`}
            </dd>
          </dl>
        {:else}<p class="text-soft">Not mapped: no centre can see this point.</p>{/each}
      </TrailCard>
    </div>
  {/if}

  <table class="panel w-full text-[13px]">
    <thead class="text-left text-[12px] text-soft">
      <tr class="border-b border-rule"
        ><th class="px-3 py-1.5 font-normal">Earlier readings</th><th class="font-normal">Value</th><th
          class="font-normal">Change</th
        ><th class="font-normal">Quality</th><th class="font-normal">Came by</th><th class="font-normal"
          >Device to engine</th
        ></tr
      >
    </thead>
    <tbody>
      {#each data.earlier as row, i (i)}
        {@const before = data.earlier[i + 1]}
        <tr class="border-b border-rule/70">
          <td class="mono px-3 py-1" title={fullTime(row.time)}
            >{clockTime(row.time, clock.now)} <span class="text-soft">{TIME_SOURCE_WORDS[row.timeSource]}</span></td
          >
          <td class="mono">{readingWords(point, row)}</td>
          <td class="mono text-soft"
            >{before && !point.states && point.kind !== 'text' && row.value !== before.value
              ? `${row.value > before.value ? '+' : ''}${grouped(row.value - before.value, 3)}`
              : ''}</td
          >
          <td class={qualityColour(row.quality)}>{qualityWords(row.quality)}</td>
          <td>{{ event: 'event', static: 'present value', engine: 'engine' }[row.cause]}</td>
          <td class="mono">{row.timeSource === 'device' ? `${row.received - row.time} ms` : ''}</td>
        </tr>
      {:else}
        <tr><td class="px-3 py-2 text-soft" colspan="6">Nothing is in history yet.</td></tr>
      {/each}
    </tbody>
  </table>
</div>

{#if controlling && device}<ControlDialog {point} {device} close={() => (controlling = false)} />{/if}

<style>
  .facts {
    display: grid;
    grid-template-columns: auto 1fr;
    gap: 3px 8px;
  }
  .facts dt {
    color: var(--soft);
    font-size: 12.5px;
  }
  .facts dd {
    text-align: right;
    font-family: 'Commit Mono', monospace;
    font-size: 11.5px;
    line-height: 1.75;
  }
</style>
