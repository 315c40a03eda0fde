<script lang="ts">
  import { addressOf, isLinked, pointsOf } from '@halvix/core/protocols';
  import { goto } from '$app/navigation';
  import { heldRows, mappedWords, mappingRows, mergedRows, pointRows } from '$lib/build/grid/rows.ts';
  import { draftPointSchema, type DraftPoint } from '@halvix/core/config';
  import { onMount, untrack } from 'svelte';
  import { draft, type Held } from '$lib/build/draft.svelte.ts';
  import { inListOrder, pointKey, type PointRow } from '$lib/build/grid/grid.ts';
  import PointGrid from '$lib/components/build/grid/PointGrid.svelte';
  import type { MappingConfig } from '@halvix/core/config';

  let { data } = $props();
  let rows = $state.raw<PointRow[]>(untrack(() => heldRows<DraftPoint>('point', data.first)));
  let mappings = $state.raw<Held<MappingConfig>[]>([]);
  let complete = $state(untrack(() => data.first.length >= data.count));
  let problem = $state<string | null>(null);
  let scope = untrack(() => JSON.stringify(data.of));

  const devices = $derived(draft.of('device').map(({ document }) => document));
  const inScope = (parent: string): boolean => data.of === null || data.of.includes(parent);

  async function loadAll(): Promise<void> {
    try {
      const all = await pointRows(data.of);
      draft.noteVersions(all);
      rows = all.sort(inListOrder);
      complete = true;
      mappings = await mappingRows(null);
      draft.noteVersions(mappings);
    } catch (error) {
      problem = `The list could not be loaded: ${error instanceof Error ? error.message : String(error)}`;
    }
  }

  // Another device or station was chosen.
  $effect(() => {
    const next = JSON.stringify(data.of);
    if (next === scope) return;
    scope = next;
    untrack(() => {
      rows = heldRows<DraftPoint>('point', data.first);
      complete = data.first.length >= data.count;
      void loadAll();
    });
  });

  onMount(() => {
    void loadAll();
    return draft.listen((changed) => {
      rows = mergedRows(
        rows,
        changed.filter(({ kind, parent }) => kind === 'point' && inScope(parent)) as PointRow[],
        inListOrder,
      );
      mappings = mergedRows(mappings, changed.filter(({ kind }) => kind === 'mapping') as Held<MappingConfig>[], null);
    });
  });

  const mapped = $derived(mappedWords(mappings));

  async function unmap(chosen: readonly PointRow[]): Promise<string | null> {
    const keys = new Set(chosen.map(({ parent, document }) => pointKey(parent, addressOf(document))));
    const gone = mappings.filter(({ document }) => keys.has(pointKey(document.device, document.point)));
    if (gone.length === 0) return 'None of them is mapped.';
    const outcome = await draft.change(
      `unmap ${gone.length}`,
      gone.map(({ id, version, parent }) => ({ id, kind: 'mapping', parent, expected: version, document: null })),
      gone.map(({ document }) => document),
    );
    return outcome.ok ? null : outcome.words;
  }

  /** Points that can be had as things are drafted, and that the list lacks. */
  const missing = $derived.by(() => {
    const device = devices.find(({ code }) => code === data.device);
    const offered = device && pointsOf(device.protocol).obtainable;
    if (!device || !offered || !complete) return [];
    const known = new Set(rows.map(({ document }) => addressOf(document)));
    const system = {
      devices: devices.filter(({ protocol }) => isLinked(protocol)),
      outbounds: draft.of('outbound').map(({ document }) => document),
    };
    return offered(system).filter((point) => !known.has(addressOf(point)));
  });
  async function addMissing(): Promise<void> {
    const parent = data.device ?? '';
    const made = missing.map(({ kind, at, name, states }) =>
      draftPointSchema.parse({ kind, at, name, states, normal: 0 }),
    );
    const outcome = await draft.change(
      `add ${made.length} points`,
      made.map((document) => ({ id: null, kind: 'point', parent, expected: null, document })),
      made.map(() => null),
    );
    problem = outcome.ok ? null : outcome.words;
  }

  const title = $derived(
    data.device !== null
      ? `Points of ${data.device}`
      : data.station !== null
        ? `Points of ${draft.of('station').find(({ document }) => document.code === data.station)?.document.name ?? data.station}`
        : 'All points',
  );
</script>

<svelte:head><title>{title} · Halvix</title></svelte:head>

<div class="flex min-h-[520px] grow flex-col gap-2 p-5 pt-4">
  <div class="flex flex-wrap items-center gap-3">
    <h1>{title}</h1>
    <select
      class="field"
      aria-label="List of"
      value={data.device ?? ''}
      onchange={(e) =>
        void goto(e.currentTarget.value ? `/build/points?device=${e.currentTarget.value}` : '/build/points')}
    >
      <option value="">all devices</option>
      {#each devices as { code, name } (code)}<option value={code}>{code} {name}</option>{/each}
    </select>
    {#if data.device !== null}<a class="word" href="/build/device/{data.device}">its settings</a>{/if}
    {#if missing.length > 0 && data.person.role === 'engineer'}<button class="button" onclick={() => void addMissing()}
        >Add all {missing.length} that it lacks</button
      >{/if}
  </div>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  <PointGrid
    {rows}
    total={complete ? rows.length : data.count}
    {complete}
    {mapped}
    device={data.device}
    {devices}
    mayBuild={data.person.role === 'engineer'}
    {unmap}
  />
</div>
