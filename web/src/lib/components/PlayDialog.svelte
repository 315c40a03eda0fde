<script lang="ts">
  import type { Play } from '@halvix/core/playing';
  import type { PointKind } from '@halvix/core/point';
  import { onMount } from 'svelte';
  import Sheet from './build/grid/Sheet.svelte';

  /** Lets values change by themselves, and ends that. */
  interface Point {
    key: string;
    kind: PointKind;
    name: string;
    value: number | null;
    /** How it plays, in words; absent: it does not. */
    plays?: string;
  }
  interface Props {
    title: string;
    /** Whose values they are, and how they arrive. */
    about: string;
    /** Those that can play; or why nobody knows. Asked again each second. */
    look: () => Promise<readonly Point[] | string>;
    /** Returns what is wrong; null: it plays, or has ended. */
    play: (key: string, play: Play) => Promise<string | null>;
    end: (key: string) => Promise<string | null>;
    close: () => void;
  }
  let { title, about, look, play, end, close }: Props = $props();
  const SHAPES = [
    ['ramp', 'up and down'],
    ['sine', 'in waves'],
    ['square', 'from one to the other'],
    ['walk', 'by chance'],
    ['replay', 'as a file says'],
  ] as const;

  let points = $state.raw<readonly Point[] | null>(null);
  let chosen = $state('');
  let shape = $state<(typeof SHAPES)[number][0]>('sine');
  let typed = $state({ low: '0', high: '100', period: '10', step: '5' });
  let csv = $state('');
  let again = $state(true);
  let problem = $state<string | null>(null);
  const playing = $derived(points?.filter(({ plays }) => plays !== undefined) ?? []);
  const point = $derived(points?.find(({ key }) => key === chosen));

  async function refresh(): Promise<void> {
    const found = await look();
    if (typeof found === 'string') problem = found;
    else {
      points = found;
      if (chosen === '' && found[0]) chosen = (found.find(({ kind }) => kind === 'analog') ?? found[0]).key;
    }
  }
  onMount(() => {
    void refresh();
    const timer = setInterval(() => void refresh(), 1000);
    return () => clearInterval(timer);
  });

  const FIELDS = { low: 'Low', high: 'High', period: 'Period', step: 'Step' } as const;
  async function begin(): Promise<void> {
    if (!point) return;
    const wanted = shape === 'replay' ? [] : (['low', 'high', shape === 'walk' ? 'step' : 'period'] as const);
    const wrong = wanted.find((key) => typed[key].trim() === '' || !Number.isFinite(Number(typed[key])));
    if (wrong) {
      problem = `${FIELDS[wrong]}: ${typed[wrong] || 'nothing'} is not a number`;
      return;
    }
    const [low, high] = [Number(typed.low), Number(typed.high)];
    const wantedPlay: Play =
      shape === 'replay'
        ? { shape, csv, again }
        : shape === 'walk'
          ? { shape, low, high, step: Number(typed.step) }
          : { shape, low, high, periodMs: Number(typed.period) * 1000 };
    problem = await play(point.key, wantedPlay);
    await refresh();
  }
  async function finish({ key }: Point): Promise<void> {
    problem = await end(key);
    await refresh();
  }
  async function take(files: FileList | null): Promise<void> {
    if (files?.[0]) csv = await files[0].text();
  }
</script>

<Sheet {title} {close}>
  <p class="text-soft">{about}</p>
  {#if playing.length > 0}
    <table class="w-full text-[13px]" aria-label="Playing">
      <tbody>
        {#each playing as one (one.key)}
          <tr class="border-t border-rule"
            ><td class="py-1 pr-3">{one.name}</td><td class="py-1 pr-3 text-soft">{one.plays}</td><td
              class="mono py-1 pr-3 text-right">{one.value === null ? '–' : Math.round(one.value * 1000) / 1000}</td
            ><td class="py-1 text-right"
              ><button
                class="cursor-pointer text-accent underline"
                aria-label="End {one.name}"
                onclick={() => void finish(one)}>end</button
              ></td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  {/if}
  {#if points}
    <form
      class="flex flex-col gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void begin();
      }}
    >
      <div class="grid grid-cols-2 gap-3">
        <label class="flex flex-col gap-0.5"
          >Point
          <select class="field" bind:value={chosen}>
            {#each points as one (one.key)}<option value={one.key}>{one.name}</option>{/each}
          </select></label
        >
        <label class="flex flex-col gap-0.5"
          >Goes
          <select class="field" bind:value={shape}>
            {#each SHAPES as [value, words] (value)}<option {value}>{words}</option>{/each}
          </select></label
        >
        {#if shape === 'replay'}
          <label class="col-span-2 flex flex-col gap-0.5"
            >Rows of time and value
            <textarea class="field mono h-[120px]!" placeholder="2026-11-27T06:00:00Z,4500" bind:value={csv}
            ></textarea></label
          >
          <label class="flex flex-col gap-0.5"
            >or a CSV file
            <input type="file" accept=".csv,.txt" onchange={(e) => void take(e.currentTarget.files)} /></label
          >
          <label class="flex items-center gap-2"><input type="checkbox" bind:checked={again} /> again and again</label>
        {:else}
          <label class="flex flex-col gap-0.5"
            >Low<input class="field mono" inputmode="decimal" bind:value={typed.low} /></label
          >
          <label class="flex flex-col gap-0.5"
            >High<input class="field mono" inputmode="decimal" bind:value={typed.high} /></label
          >
          {#if shape === 'walk'}
            <label class="flex flex-col gap-0.5"
              >Step at most<input class="field mono" inputmode="decimal" bind:value={typed.step} /></label
            >
          {:else}
            <label class="flex flex-col gap-0.5"
              >Period, s<input class="field mono" inputmode="decimal" bind:value={typed.period} /></label
            >
          {/if}
        {/if}
      </div>
      {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
      <div class="flex justify-end gap-2">
        <button class="button" type="button" onclick={close}>Close</button>
        <button class="button first" disabled={!point}>Play it</button>
      </div>
    </form>
  {:else}<p>{problem ?? 'Asking …'}</p>{/if}
</Sheet>
