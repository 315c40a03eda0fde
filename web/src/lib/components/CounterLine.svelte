<script lang="ts">
  import type { AnyDefinition } from '@halvix/core/protocols';
  import { clock } from '../clock.svelte.ts';
  import { clockTime, fullTime, rawWords } from '../format.ts';

  /** Counters since when, those that matter always, the rest when they are not zero. */
  interface Props {
    counters: Record<string, number>;
    since: number;
    counted: AnyDefinition['counters'];
    always: readonly string[];
    extra?: [string, number][];
    reset?: () => void;
  }
  let { counters, since, counted, always, extra = [], reset }: Props = $props();
  const trouble = $derived(new Set(counted.trouble));
  const names = $derived(
    Object.keys(counted.words).filter((name) => always.includes(name) || (trouble.has(name) && counters[name] > 0)),
  );
</script>

<p class="flex flex-wrap gap-x-5 gap-y-1 text-[12.5px]" data-testid="counters">
  <span class="text-soft" title={fullTime(since)}>
    Since {clockTime(since, clock.now, 0)}{#if reset}, <button
        class="cursor-pointer text-accent underline"
        onclick={reset}>reset</button
      >{/if}
  </span>
  {#each names as name (name)}
    <span class="mono" class:text-questionable={trouble.has(name) && counters[name] > 0}
      >{rawWords(counters[name] ?? 0)} {counted.words[name]}</span
    >
  {/each}
  {#each extra as [words, count] (words)}
    <span class="mono" class:text-questionable={count > 0}>{rawWords(count)} {words}</span>
  {/each}
</p>
