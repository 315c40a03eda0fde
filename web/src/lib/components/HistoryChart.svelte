<script lang="ts">
  import { qualityWords, validity } from '@halvix/core/point';
  import type { History } from '@halvix/db';
  import { bisector, extent } from 'd3-array';
  import { scaleLinear, scaleUtc } from 'd3-scale';
  import { area, curveStepAfter, line } from 'd3-shape';
  import { clock } from '../clock.svelte.ts';
  import { clockTime, isLate, valueWords, type ShownPoint } from '../format.ts';

  /** A point over time, as steps: a value holds until the next one. Parts without communication are gaps. */
  let {
    history,
    point,
    from,
    to,
    unit,
  }: { history: History; point: ShownPoint; from: number; to: number; unit: string } = $props();

  let width = $state(900);
  const HEIGHT = 290;
  const MARGIN = { left: 74, right: 14, top: 14, bottom: 26 };

  interface Sample {
    time: number;
    low: number;
    high: number;
    value: number;
    raw: number;
    quality: number;
    gap: boolean;
    /** It was fetched long after its time. */
    late: boolean;
  }
  const samples = $derived.by((): Sample[] => {
    const all =
      history.form === 'readings'
        ? history.readings.map((r) => ({
            time: r.time,
            low: r.value,
            high: r.value,
            value: r.value,
            raw: r.raw,
            quality: r.quality,
            late: isLate(r),
          }))
        : history.buckets.map((b) => ({
            time: b.time,
            low: b.minimum,
            high: b.maximum,
            value: b.last,
            raw: b.last,
            quality: b.quality,
            late: false,
          }));
    return all
      .map((sample) => ({ ...sample, gap: validity(sample.quality) === 'invalid' && history.form === 'readings' }))
      .filter(({ gap }, i, every) => !(gap && every.slice(i + 1).find((next) => !next.gap)?.late));
  });
  /** A value holds until the next one, into the beginning of a gap, and the last one to the end of the range or to now. */
  const drawn = $derived.by(() => {
    const all = samples.flatMap((sample, i) =>
      sample.gap && i > 0 && !samples[i - 1].gap ? [{ ...samples[i - 1], time: sample.time }, sample] : [sample],
    );
    const last = all.at(-1);
    return last ? [...all, { ...last, time: Math.min(to, Math.max(clock.now, last.time)) }] : [];
  });
  const x = $derived(scaleUtc([from, to], [MARGIN.left, width - MARGIN.right]));
  const y = $derived.by(() => {
    if (point.states) return scaleLinear([-0.15, point.states.length - 0.85], [HEIGHT - MARGIN.bottom, MARGIN.top]);
    const [low = 0, high = 1] = extent(samples.flatMap((s) => [s.low, s.high])) as [number?, number?];
    const room = (high - low) * 0.08 || Math.max(Math.abs(high) * 0.01, 0.5);
    return scaleLinear([low - room, high + room], [HEIGHT - MARGIN.bottom, MARGIN.top]).nice();
  });
  const path = $derived(
    line<Sample>(
      (s) => x(s.time),
      (s) => y(s.value),
    )
      .defined((s) => !s.gap)
      .curve(curveStepAfter)(drawn),
  );
  const band = $derived(
    history.form === 'buckets'
      ? area<Sample>(
          (s) => x(s.time),
          (s) => y(s.low),
          (s) => y(s.high),
        )(samples)
      : null,
  );
  const gaps = $derived(
    drawn.flatMap((s, i) => (s.gap && drawn[i + 1] ? [{ from: s.time, to: drawn[i + 1].time }] : [])),
  );
  const late = $derived(samples.filter((sample) => sample.late && !sample.gap));
  /** Stretches of neighbouring late values. */
  const lateRuns = $derived.by(() => {
    const runs: { from: number; to: number }[] = [];
    samples.forEach((sample, i) => {
      if (!sample.late) return;
      const run = runs.at(-1);
      if (run && samples[i - 1]?.late) run.to = sample.time;
      else runs.push({ from: sample.time, to: sample.time });
    });
    return runs;
  });
  const marks = $derived(samples.filter((s) => s.quality !== 0 && !s.gap).slice(0, 400));
  const yTicks = $derived(point.states ? point.states.map((_, state) => state) : y.ticks(6));
  /** Seconds where they tell ticks apart, the day where a day has passed. */
  const format = (tick: Date): string => {
    const text = tick.toISOString();
    if (to - from > 2 * 86_400_000) return text.slice(5, 10);
    return tick.getTime() % 60_000 === 0 ? text.slice(11, 16) : text.slice(11, 19);
  };

  let pointed = $state.raw<Sample | null>(null);
  const nearest = bisector<Sample, number>((s) => s.time);
  function onMove(event: PointerEvent): void {
    const at = x.invert(event.offsetX).getTime();
    pointed = samples[Math.max(0, nearest.right(samples, at) - 1)] ?? null;
  }
</script>

<div bind:clientWidth={width} class="panel relative">
  <svg
    {width}
    height={HEIGHT}
    role="img"
    aria-label="Chart of {samples.length} values"
    onpointermove={onMove}
    onpointerleave={() => (pointed = null)}
    data-testid="history-chart"
  >
    {#each yTicks as tick (tick)}
      <path d="M{MARGIN.left} {y(tick)}H{width - MARGIN.right}" stroke="var(--rule)" />
      <text x={MARGIN.left - 8} y={y(tick) + 4} text-anchor="end" class="mono" font-size="11.5" fill="var(--soft)"
        >{point.states ? point.states[tick] : y.tickFormat(6)(tick)}</text
      >
    {/each}
    {#each x.ticks(Math.max(2, Math.floor(width / 130))) as tick (tick.getTime())}
      <path d="M{x(tick)} {HEIGHT - MARGIN.bottom}v4" stroke="var(--soft)" />
      <text x={x(tick)} y={HEIGHT - 8} text-anchor="middle" class="mono" font-size="11.5" fill="var(--soft)"
        >{format(tick)}</text
      >
    {/each}
    {#each gaps as gap, i (i)}
      <rect
        x={x(gap.from)}
        y={MARGIN.top}
        width={Math.max(1, x(gap.to) - x(gap.from))}
        height={HEIGHT - MARGIN.top - MARGIN.bottom}
        fill="var(--lost)"
        opacity="0.12"
      />
    {/each}
    {#if gaps[0]}<text
        x={x(gaps[0].from) + (x(gaps[0].from) > width - 130 ? -4 : 4)}
        y={MARGIN.top + 12}
        text-anchor={x(gaps[0].from) > width - 130 ? 'end' : 'start'}
        font-size="11.5"
        fill="var(--lost)">no communication</text
      >{/if}
    {#each lateRuns as run, i (i)}
      <path
        d="M{x(run.from) - 2} {HEIGHT - MARGIN.bottom - 4}H{x(run.to) + 2}"
        stroke="var(--soft)"
        stroke-width="4"
        data-late
      />
    {/each}
    {#if band}<path d={band} fill="var(--accent)" opacity="0.2" />{/if}
    {#if path}<path d={path} fill="none" stroke="var(--accent)" stroke-width="1.6" />{/if}
    {#each marks as mark, i (i)}
      <rect x={x(mark.time) - 3} y={y(mark.value) - 3} width="6" height="6" fill="none" stroke="var(--forced)"
        ><title>{qualityWords(mark.quality)}</title></rect
      >
    {/each}
    {#if pointed}
      <path d="M{x(pointed.time)} {MARGIN.top}V{HEIGHT - MARGIN.bottom}" stroke="var(--ink)" stroke-dasharray="2 3" />
      <circle cx={x(pointed.time)} cy={y(pointed.value)} r="3.5" fill="var(--ink)" />
    {/if}
  </svg>
  {#if late.length > 0}
    <p class="absolute bottom-7 left-20 rounded bg-panel px-1 text-[11.5px] text-soft" data-testid="late-words">
      ▬ {late.length} values came late, from what the device had kept
    </p>
  {/if}
  {#if pointed}
    <p class="mono absolute top-2 right-4 rounded bg-ground px-2 py-0.5">
      {clockTime(pointed.time, clock.now)} · {valueWords(point, pointed.raw, pointed.value)}
      {unit}{history.form === 'buckets'
        ? ` (${valueWords(point, pointed.low, pointed.low)} to ${valueWords(point, pointed.high, pointed.high)})`
        : ''}
      {qualityWords(pointed.quality)}
    </p>
  {/if}
</div>
