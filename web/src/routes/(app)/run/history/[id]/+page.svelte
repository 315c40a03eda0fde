<script lang="ts">
  import { qualityWords, TIME_SOURCE_WORDS } from '@halvix/core/point';
  import type { Bucket, History, StoredReading } from '@halvix/db';
  import { onMount, untrack } from 'svelte';
  import { messageOf } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import DataTable from '$lib/components/DataTable.svelte';
  import HistoryChart from '$lib/components/HistoryChart.svelte';
  import {
    age,
    clockTime,
    fullTime,
    isLate,
    qualityColour,
    qualityMark,
    rawWords,
    readingWords,
    valueWords,
  } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import type { Column } from '$lib/table.ts';

  let { data } = $props();
  const { point } = $derived(data);
  const device = $derived(data.frame.devices.find(({ code }) => code === data.deviceCode));
  const reading = $derived(live.points[point.id] ?? data.readings[point.id]);

  const MINUTE = 60_000;
  const SPANS: [string, number][] = [
    ['15 min', 15 * MINUTE],
    ['1 h', 60 * MINUTE],
    ['6 h', 360 * MINUTE],
    ['24 h', 1440 * MINUTE],
    ['7 d', 7 * 1440 * MINUTE],
    ['30 d', 30 * 1440 * MINUTE],
    ['1 y', 365 * 1440 * MINUTE],
    ['10 y', 3652 * 1440 * MINUTE],
  ];
  const REFRESH_MS = 2000;
  let span = $state(15 * MINUTE);
  /** End of the range; null: it follows the present. */
  let end = $state<number | null>(null);
  let range = $state.raw({ from: 0, to: 1 });
  let history = $state.raw<History | null>(null);
  let problem = $state<string | null>(null);
  let asking = 0;

  async function look(): Promise<void> {
    const number = ++asking;
    const to = end ?? clock.now + span * 0.01;
    const from = Math.round(to - span);
    const answer = await fetch(`/api/history/${point.id}?from=${from}&to=${Math.round(to)}`).catch(() => null);
    if (number !== asking) return;
    if (answer === null) problem = 'The server cannot be reached; the chart is as old as the last one that came.';
    else if (!answer.ok) problem = await messageOf(answer);
    else {
      history = (await answer.json()) as History;
      range = { from, to };
      problem = null;
    }
  }

  $effect(() => {
    void [span, end];
    untrack(() => void look());
  });
  onMount(() => {
    live.watch({ points: [point.id], trail: null, journal: false });
    const timer = setInterval(() => end === null && document.visibilityState === 'visible' && void look(), REFRESH_MS);
    return () => clearInterval(timer);
  });

  const move = (share: number): void => {
    const next = (end ?? clock.now) + span * share;
    end = next >= clock.now ? null : next;
  };

  /** `place`: from the oldest; two readings may be alike in everything. */
  type Row = { place: number } & ((StoredReading & { form: 'reading' }) | (Bucket & { form: 'bucket' }));
  const rows = $derived.by((): Row[] => {
    if (history === null) return [];
    return history.form === 'readings'
      ? history.readings.map((r, place) => ({ ...r, place, form: 'reading' as const })).reverse()
      : history.buckets.map((b, place) => ({ ...b, place, form: 'bucket' as const })).reverse();
  });
  const valueText = (row: Row): string =>
    row.form === 'reading'
      ? readingWords(point, row)
      : `${valueWords(point, row.minimum, row.minimum)} to ${valueWords(point, row.maximum, row.maximum)}`;
  const isText = untrack(() => data.point.kind === 'text');
  const columns: Column<Row>[] = [
    {
      key: 'time',
      title: 'Time',
      width: '200px',
      mono: true,
      text: (row) => clockTime(row.time, clock.now),
      order: (row) => row.time,
    },
    {
      key: 'clock',
      title: 'Whose clock',
      width: '170px',
      text: (row) => (row.form === 'reading' ? TIME_SOURCE_WORDS[row.timeSource] : `${row.count} readings`),
    },
    {
      key: 'value',
      title: 'Value',
      width: isText ? 'minmax(280px,2fr)' : '170px',
      align: isText ? 'left' : 'right',
      mono: true,
      text: valueText,
      order: (row) => (row.form === 'reading' ? row.value : row.last),
    },
    {
      key: 'raw',
      title: 'Raw',
      width: '110px',
      align: 'right',
      mono: true,
      text: (row) => (row.form === 'reading' ? rawWords(row.raw, row.text) : ''),
    },
    { key: 'quality', title: 'Quality', width: '1fr', text: (row) => qualityWords(row.quality) },
    {
      key: 'cause',
      title: 'Came by',
      width: 'minmax(140px,1fr)',
      text: (row) =>
        row.form === 'reading'
          ? `${{ event: 'event', static: 'present value', engine: 'engine' }[row.cause]}${isLate(row) ? `, ${age(row.received - row.time)} late` : ''}`
          : row.badMs
            ? `mean ${valueWords(point, row.mean, row.mean)}, bad for ${age(row.badMs)}`
            : `mean ${valueWords(point, row.mean, row.mean)}`,
    },
  ];
</script>

<svelte:head><title>History of {point.name} · Halvix</title></svelte:head>

<div class="flex min-h-[640px] grow flex-col gap-3 p-5">
  <div class="flex flex-wrap items-baseline gap-3">
    <h1>{point.name}</h1>
    <span class="text-soft"
      ><a class="word" href="/run/device/{data.deviceCode}">{data.deviceCode} {device?.name}</a> · {point.address} ·
      <a class="word" href="/run/point/{point.id}">trail</a></span
    >
    <span class="grow"></span>
    <span class="mono text-[20px]! {reading ? qualityMark(reading.quality) : ''}"
      >{reading ? readingWords(point, reading) : '–'}</span
    >
    <span class="mono text-soft">{point.unit}</span>
  </div>
  <div class="flex flex-wrap items-center gap-2">
    {#each SPANS as [words, ms] (ms)}<button class="button" aria-pressed={span === ms} onclick={() => (span = ms)}
        >{words}</button
      >{/each}
    <button class="button" aria-label="Earlier" onclick={() => move(-0.5)}>‹</button>
    <button class="button" aria-label="Later" disabled={end === null} onclick={() => move(0.5)}>›</button>
    <button class="button" aria-pressed={end === null} onclick={() => (end = null)}>Follow the present</button>
    <span class="text-soft" title="{fullTime(range.from)} to {fullTime(range.to)}"
      >{clockTime(range.from, clock.now, 0)} to {clockTime(range.to, clock.now, 0)} UTC</span
    >
  </div>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if history}
    {#if point.kind !== 'text'}<HistoryChart {history} {point} from={range.from} to={range.to} unit={point.unit} />{/if}
    <DataTable
      name="History of {point.name}"
      {rows}
      {columns}
      rowKey={(row) => row.place}
      empty="Nothing was stored in this time."
    >
      {#snippet cell(row, column)}
        {#if column.key === 'quality'}<span class={qualityColour(row.quality)}>{qualityWords(row.quality)}</span>
        {:else if column.key === 'time'}<span title={fullTime(row.time)}>{column.text(row)}</span>
        {:else}{column.text(row)}{/if}
      {/snippet}
    </DataTable>
  {:else}<p class="text-soft">Reading history …</p>{/if}
</div>
