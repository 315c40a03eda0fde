<script lang="ts">
  import { clock } from '../clock.svelte.ts';
  import { age } from '../format.ts';
  import { live } from '../live/live.svelte.ts';
  import { devicePath, isOnLink, type DeviceOnPath, type OutboundOnPath, type SegmentState } from '../path.ts';
  import { dash, STROKE } from '../strokes.ts';

  /** A device's path, large: one segment a hop, forked where there are several outbounds. */
  let { device, outbounds }: { device: DeviceOnPath; outbounds: OutboundOnPath[] } = $props();

  const path = $derived(devicePath(device, outbounds, live.hops, clock.now));
  const session = $derived(live.hops.devices[device.code]);
  const ROW = 46;
  const height = $derived(Math.max(108, outbounds.length * ROW + 8));
  const MAIN_Y = 12;
  const outboundY = (i: number): number => 14 + i * ROW;
</script>

{#snippet segment(from: number, to: number, s: SegmentState)}
  {#if s === 'lost'}
    {@const middle = (from + to) / 2}
    <path d="M{from} {MAIN_Y}H{middle - 12}M{middle + 12} {MAIN_Y}H{to}" stroke="var(--lost)" stroke-width="2" />
    <path
      d="M{middle - 8} {MAIN_Y - 6}l5 12M{middle + 1} {MAIN_Y - 6}l5 12"
      stroke="var(--lost)"
      stroke-width="2"
      data-break
    />
  {:else}
    <path d="M{from} {MAIN_Y}H{to}" stroke={STROKE[s]} stroke-width="2" stroke-dasharray={dash(s)} />
  {/if}
{/snippet}

<div
  class="relative max-w-[1100px]"
  style="height: {height}px"
  role="group"
  aria-label="Path of {device.name}"
  data-testid="path-strip"
>
  <svg
    class="absolute inset-0 h-full w-full"
    viewBox="0 0 1024 {height}"
    preserveAspectRatio="none"
    fill="none"
    aria-hidden="true"
  >
    {@render segment(5, 205, path.device.state)}
    {@render segment(205, 405, path.link.state)}
    {#if path.outbounds.length > 0}<path
        d="M405 {MAIN_Y}H600"
        stroke={STROKE[path.engine.state]}
        stroke-width="2"
        stroke-dasharray={dash(path.engine.state)}
      />{/if}
    {#each path.outbounds as { hop }, i (i)}
      <path
        d="M600 {MAIN_Y}C640 {MAIN_Y} 630 {outboundY(i)} 670 {outboundY(i)}H744"
        stroke={STROKE[hop.state]}
        stroke-width={hop.state === 'good' ? 2 : 1.5}
        stroke-dasharray={dash(hop.state)}
        vector-effect="non-scaling-stroke"
      />
    {/each}
  </svg>
  {#each [{ at: 5, hop: path.device }, ...(isOnLink(device) ? [{ at: 205, hop: path.link }] : []), { at: 405, hop: path.engine }] as { at, hop } (at)}
    <span
      class="absolute h-[11px] w-[11px] -translate-x-1/2 rounded-full"
      style="left: {at / 10.24}%; top: 6.5px; background: {STROKE[hop.state]}"
    ></span>
  {/each}
  <div class="absolute top-[22px] w-[18%]" style="left: 0">
    <div class="font-semibold">{device.description ? device.name : device.code}</div>
    <div class="mono">{device.where}</div>
    <div
      class="mono"
      class:text-soft={path.device.state === 'good'}
      class:text-lost={path.device.state === 'lost'}
      data-testid="hop-device"
    >
      {path.device.state === 'good' && isOnLink(device) ? `answered ${path.device.words} ago` : path.device.words}
    </div>
  </div>
  {#if isOnLink(device)}
    <div class="absolute top-[22px] w-[18%]" style="left: 19.5%">
      <div class="font-semibold">
        <a class="plain hover:underline" href="/run/link/{device.link.code}">{device.link.name}</a>
      </div>
      <div class="mono">{device.link.endpoint}</div>
      <div
        class="mono"
        class:text-soft={path.link.state === 'good'}
        class:text-lost={path.link.state === 'lost'}
        data-testid="hop-link"
      >
        {path.link.state === 'good' && session?.roundTripMs !== null && session !== undefined
          ? `reply in ${session.roundTripMs < 1 ? 'under 1' : session.roundTripMs} ms`
          : path.link.words}
      </div>
    </div>
  {/if}
  <div class="absolute top-[22px] w-[21%]" style="left: 39%">
    <div class="font-semibold">Engine</div>
    {#if device.ourAddress !== null}<div class="mono">our address {device.ourAddress}</div>{/if}
    <div class="mono" class:text-soft={path.engine.state === 'good'} class:text-lost={path.engine.state === 'lost'}>
      {path.engine.state === 'lost'
        ? path.engine.words
        : !isOnLink(device)
          ? 'watches'
          : session && session.lastCommit !== null
            ? `stored ${age(clock.now - session.lastCommit)} ago`
            : 'nothing stored yet'}
    </div>
  </div>
  {#each path.outbounds as { outbound, hop }, i (outbound.code)}
    <span
      class="absolute h-[11px] w-[11px] -translate-x-1/2 rounded-full border-2"
      style="left: 73.2%; top: {outboundY(i) - 5.5}px; border-color: {STROKE[hop.state]}; background: {hop.state ===
      'good'
        ? 'var(--ink)'
        : 'var(--ground)'}"
    ></span>
    <a class="plain absolute block" style="left: 75%; top: {outboundY(i) - 10}px" href="/run/outbound/{outbound.code}">
      <span class="font-semibold">{outbound.centre}</span>{outbound.name === 'centre' ? '' : `, ${outbound.name}`}
      <span class="mono block" class:text-soft={hop.state !== 'lost'} class:text-lost={hop.state === 'lost'}
        >{hop.words}</span
      >
    </a>
  {/each}
</div>
