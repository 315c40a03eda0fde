<script lang="ts">
  import type { LaneState } from '@halvix/core/path';
  import { scaleLinear } from 'd3-scale';
  import { clock } from '../clock.svelte.ts';
  import { clockTime } from '../format.ts';

  /** Who had the line when: a row a device, a block a turn, asked, waited for and answered from left to right. */
  let { lane, devices, spanMs }: { lane: LaneState; devices: readonly string[]; spanMs: number } = $props();
  const ROW = 30;
  const LEFT = 92;
  let width = $state(900);
  const height = $derived(devices.length * ROW + 26);
  const x = $derived(scaleLinear([lane.at - spanMs, lane.at], [LEFT, width - 12]));
  const turns = $derived(lane.strip.filter((turn) => turn.ended >= lane.at - spanMs));
  const at = (time: number): number => Math.max(LEFT, x(time));
  /** As many as have room for their words. */
  const spaces = $derived(Math.max(1, Math.min(5, Math.floor((width - LEFT) / 90))));
  const ticks = $derived(Array.from({ length: spaces + 1 }, (_, i) => lane.at - spanMs + (i * spanMs) / spaces));
  let pointed = $state.raw<LaneState['strip'][number] | null>(null);
</script>

<div class="panel relative" bind:clientWidth={width}>
  <svg
    {width}
    {height}
    role="img"
    aria-label="Turns of the last {spanMs / 1000} seconds"
    data-testid="line-strip"
    onpointerleave={() => (pointed = null)}
  >
    {#each devices as device, row (device)}
      <text x="12" y={row * ROW + 20} class="mono" fill="var(--ink)">{device}</text>
      <path d="M{LEFT} {row * ROW + 16}H{width - 12}" stroke="var(--rule)" />
    {/each}
    {#each turns as turn, i (`${turn.device} ${turn.began} ${i}`)}
      {@const row = devices.indexOf(turn.device)}
      {@const from = at(turn.began)}
      {@const to = Math.max(from + 2, at(turn.ended))}
      {@const sent = at(turn.began + turn.sendingMs)}
      {@const answered = at(turn.ended - turn.receivingMs)}
      <!-- svelte-ignore a11y_no_static_element_interactions -->
      <g onpointerenter={() => (pointed = turn)}>
        <rect x={from} y={row * ROW + 6} width={to - from} height="20" fill="transparent" />
        {#if turn.outcome === 'silent'}
          <rect
            x={from}
            y={row * ROW + 10}
            width={to - from}
            height="12"
            fill="none"
            stroke="var(--lost)"
            stroke-dasharray="3 2"
          />
        {:else}
          <path d="M{from} {row * ROW + 16}H{to}" stroke="var(--soft)" stroke-width="2" />
          <rect x={from} y={row * ROW + 11} width={Math.max(1.5, sent - from)} height="10" fill="var(--ink)" />
          <rect x={answered} y={row * ROW + 11} width={Math.max(0, to - answered)} height="10" fill="var(--accent)" />
        {/if}
      </g>
    {/each}
    {#each ticks as tick (tick)}
      <path d="M{x(tick)} {height - 24}v4" stroke="var(--soft)" />
      <text
        x={x(tick)}
        y={height - 6}
        text-anchor={tick === lane.at ? 'end' : 'middle'}
        class="mono"
        font-size="11"
        fill="var(--soft)">{clockTime(tick, clock.now, 0)}</text
      >
    {/each}
  </svg>
  {#if pointed}
    <p class="mono absolute top-1 right-3 rounded bg-ground px-2 py-0.5">
      {clockTime(pointed.began, clock.now)}
      {pointed.device}: {pointed.words},
      {pointed.outcome === 'silent' ? 'no answer' : `${Math.round(pointed.ended - pointed.began)} ms`}
    </p>
  {/if}
</div>
