<script lang="ts">
  import type { DeviceObject, DraftPoint } from '@halvix/core/config';
  import { KIND_WORDS, type PointKind } from '@halvix/core/point';
  import { addressOf, FIRST_PROTOCOL, numberOf, type ProtocolCode, pointsOf } from '@halvix/core/protocols';
  import { newPoint, runOfPoints, type PatternContext } from '@halvix/core/pointlist';
  import { untrack } from 'svelte';
  import { pointKey, type PointRow } from '$lib/build/grid/grid.ts';
  import Sheet from './grid/Sheet.svelte';

  /** A run of points with following addresses, named by a pattern. */
  interface Props {
    device: string | null;
    devices: readonly DeviceObject[];
    rows: readonly PointRow[];
    context: (device: string) => PatternContext;
    add: (label: string, added: { device: string; point: DraftPoint }[]) => Promise<string | null>;
    close: () => void;
  }
  let { device, devices, rows, context, add, close }: Props = $props();
  let into = $state(untrack(() => device ?? devices[0]?.code ?? ''));
  let kind = $state<PointKind>('analog');
  let count = $state<number | null>(3);
  let first = $state<number | null>(untrack(() => nextFree('analog', into)));
  let pattern = $state('Feeder current L{n}');
  let problem = $state<string | null>(null);

  function protocolOf(code: string): ProtocolCode {
    return devices.find((one) => one.code === code)?.protocol ?? FIRST_PROTOCOL;
  }

  function nextFree(of: PointKind, code: string): number {
    const protocol = protocolOf(code);
    const { series, width } = pointsOf(protocol);
    const wanted = series(newPoint(protocol, of, null, '-'));
    return rows.reduce((next, { parent, document }) => {
      const number = parent === code && series(document) === wanted ? numberOf(document) : null;
      return number === null ? next : Math.max(next, number + width(document));
    }, 0);
  }

  const run = $derived(
    runOfPoints({ protocol: protocolOf(into), kind, count: count ?? 0, first: first ?? -1, pattern }, context(into)),
  );
  const taken = $derived.by(() => {
    if (!run.ok) return [];
    const keys = new Set(rows.map(({ parent, document }) => pointKey(parent, addressOf(document))));
    return run.value.filter((point) => keys.has(pointKey(into, addressOf(point))));
  });

  async function go(): Promise<void> {
    if (!run.ok || taken.length > 0) return;
    problem = await add(
      'add a run',
      run.value.map((point) => ({ device: into, point })),
    );
  }
</script>

<Sheet
  title="Add a run of points"
  about={'In the pattern: {n} counts from 1, {n:2} with leading zeros, {index} the address, {station} and {device} the codes.'}
  {close}
>
  <form
    class="grid grid-cols-2 gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      void go();
    }}
  >
    <label class="flex flex-col gap-0.5"
      >Device
      <select class="field" bind:value={into} onchange={() => (first = nextFree(kind, into))}>
        {#each devices as { code, name } (code)}<option value={code}>{code} {name}</option>{/each}
      </select></label
    >
    <label class="flex flex-col gap-0.5"
      >Kind
      <select class="field" bind:value={kind} onchange={() => (first = nextFree(kind, into))}>
        {#each pointsOf(protocolOf(into)).kinds as one (one)}<option value={one}>{KIND_WORDS[one].one}</option>{/each}
      </select></label
    >
    <label class="flex flex-col gap-0.5"
      >Count, 1 to 65536<input class="field mono" type="number" bind:value={count} /></label
    >
    <label class="flex flex-col gap-0.5"
      >First address, 0 to 65535<input class="field mono" type="number" bind:value={first} /></label
    >
    <label class="col-span-2 flex flex-col gap-0.5">Name pattern<input class="field" bind:value={pattern} /></label>
    <div class="col-span-2 bg-ground p-3">
      {#if !run.ok}<p role="alert" class="text-alarm">{run.problem}</p>
      {:else}
        <p class="text-soft">Makes:</p>
        {#each [...run.value.slice(0, 3), ...(run.value.length > 4 ? [run.value[run.value.length - 1]] : run.value.slice(3))] as point, i (i)}
          <p>
            <span class="mono text-soft">{addressOf(point)}</span>
            <span class="text-soft">{into}</span>
            {point.name}
          </p>
        {/each}
        {#if taken.length > 0}<p role="alert" class="text-alarm">
            {taken.length} of these addresses are in the list already, the first is {addressOf(taken[0])}
          </p>{/if}
      {/if}
    </div>
    {#if problem}<p role="alert" class="col-span-2 text-alarm">{problem}</p>{/if}
    <div class="col-span-2 flex justify-end gap-2">
      <button class="button" type="button" onclick={close}>Cancel</button>
      <button class="button first" disabled={!run.ok || taken.length > 0}
        >Add {run.ok ? run.value.length : ''} points</button
      >
    </div>
  </form>
</Sheet>
