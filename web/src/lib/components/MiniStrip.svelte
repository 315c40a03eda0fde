<script lang="ts">
  import { isReached, type DevicePath } from '../path.ts';

  /** The path as a mark: device, link, engine, and how many of the outbounds are there. */
  let { path }: { path: DevicePath } = $props();

  const away = $derived(path.outbounds.length > 0 && path.outbounds.every(({ hop }) => hop.state !== 'good'));
  const words = $derived(
    isReached(path)
      ? away
        ? 'reached; no centre is there'
        : 'whole path alive'
      : path.engine.state === 'lost'
        ? 'engine stopped'
        : path.link.state === 'lost'
          ? 'broken at the link'
          : path.device.state === 'lost'
            ? 'broken at the device'
            : 'not known',
  );
</script>

<svg width="40" height="10" viewBox="0 0 40 10" role="img" aria-label={words} class="shrink-0">
  <title>{words}</title>
  {#if path.device.state === 'lost'}
    <path d="M3 5h7" stroke="var(--lost)" stroke-width="2" /><path
      d="M18 5h19"
      stroke="var(--ink)"
      stroke-width="1.5"
    />
  {:else if path.link.state === 'lost'}
    <path d="M3 5h11" stroke="var(--lost)" stroke-width="2" /><path
      d="M24 5h13"
      stroke="var(--ink)"
      stroke-width="1.5"
    />
  {:else if path.engine.state === 'lost'}
    <path d="M3 5h15M24 5h13" stroke="var(--lost)" stroke-width="1.5" stroke-dasharray="2 3" />
  {:else if path.device.state !== 'good'}
    <path d="M3 5h34" stroke="var(--soft)" stroke-width="1.5" stroke-dasharray="2 3" />
  {:else}
    <path d="M3 5h23" stroke="var(--ink)" stroke-width="1.5" />
    <path
      d="M26 5h11"
      stroke={away ? 'var(--soft)' : 'var(--ink)'}
      stroke-width="1.5"
      stroke-dasharray={away ? '2 3' : undefined}
    />
  {/if}
  <circle cx="3" cy="5" r="2.4" fill={isReached(path) ? 'var(--ink)' : 'var(--lost)'} />
  <circle
    cx="37"
    cy="5"
    r="2.4"
    fill={away ? 'var(--ground)' : 'var(--ink)'}
    stroke={away ? 'var(--soft)' : 'var(--ink)'}
  />
</svg>
