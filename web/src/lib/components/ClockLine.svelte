<script lang="ts">
  import { scaleLinear } from 'd3-scale';
  import { line } from 'd3-shape';
  import { clock } from '../clock.svelte.ts';
  import { age, fullTime } from '../format.ts';

  interface Compared {
    at: number;
    offsetMs: number;
    uncertaintyMs: number;
  }
  /** The device's clock against ours, over time. */
  let { clocks, latest }: { clocks: readonly Compared[]; latest: Compared } = $props();
  const WIDTH = 220;
  const HEIGHT = 30;
  const most = $derived(Math.max(50, ...clocks.map(({ offsetMs }) => Math.abs(offsetMs))));
  const x = $derived(scaleLinear([clocks[0]?.at ?? 0, latest.at], [3, WIDTH - 3]));
  const y = $derived(scaleLinear([-most, most], [HEIGHT - 3, 3]));
  const path = $derived(
    clocks.length > 1
      ? line<Compared>(
          (one) => x(one.at),
          (one) => y(one.offsetMs),
        )([...clocks])
      : null,
  );
  const words = $derived.by(() => {
    const { offsetMs, uncertaintyMs } = latest;
    if (Math.abs(offsetMs) <= uncertaintyMs) return `right to within ${uncertaintyMs} ms`;
    const amount = Math.abs(offsetMs) < 10_000 ? `${Math.abs(offsetMs)} ms` : age(Math.abs(offsetMs));
    return `${amount} ${offsetMs > 0 ? 'ahead of' : 'behind'} ours, give or take ${uncertaintyMs} ms`;
  });
  const off = $derived(Math.abs(latest.offsetMs) > 1000 + latest.uncertaintyMs);
</script>

<p class="flex flex-wrap items-center gap-3 text-[12.5px]" data-testid="device-clock">
  <span class:text-questionable={off} title={fullTime(latest.at)}
    >Its clock is {words}, compared {age(clock.now - latest.at)} ago.</span
  >
  {#if path}
    <svg width={WIDTH} height={HEIGHT} role="img" aria-label="Clock offset over time, at most {most} ms">
      <path d="M3 {y(0)}H{WIDTH - 3}" stroke="var(--rule)" />
      <path d={path} fill="none" stroke="var(--accent)" stroke-width="1.5" />
    </svg>
    <span class="mono text-soft">± {most} ms over {age(latest.at - (clocks[0]?.at ?? latest.at))}</span>
  {/if}
</p>
