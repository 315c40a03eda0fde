<script lang="ts">
  import { COUNTER_WORDS, type CounterName } from '@halvix/core/protocols/dnp3';
  import { clock } from '../clock.svelte.ts';
  import { clockTime, fullTime, rawWords } from '../format.ts';

  /** Counters since when, those that matter always, the rest when they are not zero. */
  interface Props {
    counters: Record<string, number>;
    since: number;
    always: CounterName[];
    extra?: [string, number][];
    reset?: () => void;
  }
  let { counters, since, always, extra = [], reset }: Props = $props();
  const TROUBLE = new Set<CounterName>([
    'timeouts',
    'retries',
    'noiseOctets',
    'headerChecksums',
    'bodyChecksums',
    'otherDestination',
    'otherSource',
    'wrongDirection',
    'transportErrors',
    'overlongFragments',
    'malformedFragments',
    'unexpectedFragments',
    'unsupported',
    'eventsDropped',
    'repeatedRequests',
  ]);
  const names = $derived(
    (Object.keys(COUNTER_WORDS) as CounterName[]).filter(
      (name) => always.includes(name) || (TROUBLE.has(name) && counters[name] > 0),
    ),
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
    <span class="mono" class:text-questionable={TROUBLE.has(name) && counters[name] > 0}
      >{rawWords(counters[name] ?? 0)} {COUNTER_WORDS[name]}</span
    >
  {/each}
  {#each extra as [words, count] (words)}
    <span class="mono" class:text-questionable={count > 0}>{rawWords(count)} {words}</span>
  {/each}
</p>
