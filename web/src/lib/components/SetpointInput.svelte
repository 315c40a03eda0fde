<script lang="ts">
  import { countsWords } from '../control.ts';
  import type { PointView } from '../server/points.ts';

  /** The value of a setpoint in its unit, with what may be sent and what that is in counts. */
  let { point, value = $bindable() }: { point: PointView; value: number | null } = $props();

  const words = $derived(value === null ? '' : countsWords(value, point));
  const bounds = $derived.by(() => {
    const { low, high } = point.setting ?? { low: null, high: null };
    if (low === null && high === null) return 'no limits but those of its form';
    if (low === null) return `at most ${high}`;
    return high === null ? `at least ${low}` : `${low} to ${high}`;
  });
</script>

<label class="flex flex-col gap-1">
  <span>Value{point.unit ? `, ${point.unit}` : ''} <span class="text-soft">({bounds})</span></span>
  <span class="flex items-baseline gap-3">
    <input class="field mono w-40 text-right text-[16px]" type="number" step="any" bind:value />
    {#if words}<span class="text-soft">sent as {words}</span>{/if}
  </span>
</label>
