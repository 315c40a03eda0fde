<script lang="ts">
  import { page } from '$app/state';
  import { loopOf, misfitOf, type MappingConfig } from '@halvix/core/config';
  import { applyRule, usualNumbering, type MappingRule } from '@halvix/core/mapping';
  import { isControl } from '@halvix/core/point';
  import { addressOf, FIRST_PROTOCOL, numberOf, sortOf, targetsOf, wayOut } from '@halvix/core/protocols';
  import { download } from '$lib/build/forms.ts';
  import { onMount } from 'svelte';
  import { draft, type Held } from '$lib/build/draft.svelte.ts';
  import { pointKey, type PointRow } from '$lib/build/grid/grid.ts';
  import { mappingRows, mergedRows, pointRows, targetsTwice } from '$lib/build/grid/rows.ts';
  import EditMapping from '$lib/components/build/mapping/EditMapping.svelte';
  import MapByRule from '$lib/components/build/mapping/MapByRule.svelte';
  import DataTable from '$lib/components/DataTable.svelte';
  import type { Column } from '$lib/table.ts';

  interface Row {
    key: string;
    point: PointRow | null;
    held: Held<MappingConfig> | null;
    problem: string;
    severity: 'problem' | 'warning' | null;
  }

  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  const outbounds = $derived(draft.of('outbound'));
  const chosen = $derived(page.url.searchParams.get('outbound') ?? outbounds[0]?.document.code ?? '');
  const outbound = $derived(draft.outbound(chosen)?.document);
  let points = $state.raw<PointRow[]>([]);
  let mappings = $state.raw<Held<MappingConfig>[]>([]);
  let loaded = $state(false);
  let problem = $state<string | null>(null);
  let only = $state<'all' | 'mapped' | 'unmapped' | 'wrong'>('all');
  let ruling = $state(false);
  let edited = $state.raw<{ held: Held<MappingConfig>; point: PointRow | null } | null>(null);

  async function load(): Promise<void> {
    try {
      [points, mappings] = await Promise.all([pointRows(null), mappingRows(null)]);
      draft.noteVersions(points);
      draft.noteVersions(mappings);
      loaded = true;
    } catch {
      problem = 'The lists could not be loaded. Reload the page.';
    }
  }

  onMount(() => {
    void load();
    return draft.listen((changed) => {
      points = mergedRows(points, changed.filter(({ kind }) => kind === 'point') as PointRow[], null);
      mappings = mergedRows(mappings, changed.filter(({ kind }) => kind === 'mapping') as Held<MappingConfig>[], null);
    });
  });

  const here = $derived(mappings.filter(({ parent }) => parent === chosen));
  const pointAt = $derived(new Map(points.map((row) => [pointKey(row.parent, addressOf(row.document)), row])));
  const twice = $derived(targetsTwice(here));
  const rows = $derived.by(() => {
    const all: Row[] = here.map((held) => {
      const { document } = held;
      const point = pointAt.get(pointKey(document.device, document.point)) ?? null;
      const misfit = point && misfitOf(point.document, document);
      const double = twice.has(addressOf(document.target));
      const [elsewhere] = targetsOf(document.target.at.protocol).problems(document.target, outbound?.settings ?? null);
      const back = outbound ? loopOf(outbound, document) : null;
      const words =
        !point && loaded
          ? 'its source is not in the list'
          : double
            ? 'two points are mapped to this address'
            : (back ?? elsewhere ?? misfit?.words ?? '');
      return {
        key: `m${held.id}`,
        point,
        held,
        problem: words,
        severity:
          words === '' ? null : !point || double || back !== null || elsewhere ? 'problem' : (misfit?.severity ?? null),
      };
    });
    const mapped = new Set(here.map(({ document }) => pointKey(document.device, document.point)));
    for (const row of points)
      if (!mapped.has(pointKey(row.parent, addressOf(row.document))))
        all.push({ key: `p${row.id}`, point: row, held: null, problem: '', severity: null });
    return all
      .filter(
        (row) =>
          only === 'all' ||
          (only === 'mapped' && row.held !== null) ||
          (only === 'unmapped' && row.held === null) ||
          (only === 'wrong' && row.severity !== null),
      )
      .sort((a, b) => (order(a) < order(b) ? -1 : 1));
  });
  /** What is mapped stands first, in the order of the addresses there. */
  const order = ({ held, point }: Row): string =>
    held ? `0 ${sortOf(held.document.target)}` : `1 ${point ? sortOf(point.document) : ''}`;
  const places = $derived(
    new Map([...rows].sort((a, b) => (order(a) < order(b) ? -1 : 1)).map((row, at) => [row.key, at])),
  );

  const sourceOf = (row: Row): string =>
    row.held ? row.held.document.point : (row.point && addressOf(row.point.document)) || '–';
  const targetOf = ({ held }: Row): string => (held ? addressOf(held.document.target) : '');
  const objectsOf = ({ held }: Row): string => {
    if (!held) return '';
    return targetsOf(held.document.target.at.protocol).words(held.document.target);
  };
  const placeOf = ({ key }: Row): number => places.get(key) ?? 0;
  /** As wide as the longest of them, within reason. */
  const widthOf = (texts: readonly string[], least: number): string =>
    `${Math.min(
      200,
      texts.reduce((most, { length }) => Math.max(most, length * 8 + 22), least),
    )}px`;
  const columns = $derived<Column<Row>[]>([
    {
      key: 'device',
      title: 'Device',
      width: '100px',
      text: (row) => row.held?.document.device ?? row.point?.parent ?? '',
    },
    {
      key: 'source',
      title: 'Source',
      width: widthOf(rows.map(sourceOf), 86),
      mono: true,
      text: sourceOf,
      order: placeOf,
    },
    {
      key: 'name',
      title: 'Point',
      width: 'minmax(150px,1fr)',
      text: (row) => row.point?.document.name ?? 'not in the list',
    },
    {
      key: 'way',
      title: 'Way',
      width: '142px',
      text: (row) =>
        !row.held
          ? 'not available there'
          : isControl(row.held.document.target.kind)
            ? '↔ status and control'
            : '→ to the centre',
    },
    {
      key: 'target',
      title: 'Target',
      width: widthOf(rows.map(targetOf), 90),
      mono: true,
      text: targetOf,
      order: placeOf,
    },
    {
      key: 'value',
      title: 'Value',
      width: '66px',
      text: ({ held }) => (!held ? '' : held.document.target.value === 'raw' ? 'raw' : 'in units'),
    },
    { key: 'objects', title: 'Objects there', width: '176px', mono: true, text: objectsOf },
    { key: 'problem', title: 'Problem', width: 'minmax(70px,0.8fr)', text: ({ problem: words }) => words },
    { key: 'actions', title: '', width: '128px', actions: true, text: () => '' },
  ]);

  // ---- what the other end may want as a file

  const files = $derived(outbound ? (wayOut(outbound.protocol)?.files ?? []) : []);
  async function saveFile(file: (typeof files)[number]): Promise<void> {
    if (!outbound) return;
    const link = draft.of('link').find(({ document }) => document.code === outbound.link)?.document;
    const { code, centre, settings } = outbound;
    const named = new Map(
      points.map(({ parent, document }) => [`${parent} ${addressOf(document)}`, document] as const),
    );
    const offered = here.map(({ document: { device, point, target } }) => {
      const source = named.get(`${device} ${point}`);
      const unit = target.value === 'engineering' ? (source?.unit ?? '') : '';
      return { kind: target.kind, at: target.at, name: source ? `${device} ${source.name}` : point, unit };
    });
    const text = await file.make({
      code,
      centre,
      host: link?.host ?? '',
      port: link?.port ?? 0,
      settings,
      points: offered,
    });
    download(`${code}${file.extension}`, text, 'application/xml');
  }

  // ---- the rule

  let rule = $state<MappingRule>({
    pattern: '',
    kinds: [],
    targetKind: 'same',
    numbering: 'keep',
    start: 0,
    value: 'raw',
    choices: {},
  });
  /** What may go there: not what came from there. */
  const sources = $derived(
    points
      .filter(({ parent }) => outbound === undefined || loopOf(outbound, { device: parent }) === null)
      .map(({ parent, document }) => ({ device: parent, ...document })),
  );
  const mapped = $derived(here.map(({ document }) => document));

  function openRule(): void {
    rule.numbering = usualNumbering(
      rule,
      outbound?.protocol ?? FIRST_PROTOCOL,
      sources,
      mapped,
      outbound?.settings ?? null,
    );
    rule.start = 0;
    ruling = true;
  }

  // ---- single rows

  async function remove(held: Held<MappingConfig>): Promise<void> {
    const outcome = await draft.change(
      `unmap ${addressOf(held.document.target)} of ${chosen}`,
      [{ id: held.id, kind: 'mapping', parent: held.parent, expected: held.version, document: null }],
      [held.document],
    );
    problem = outcome.ok ? null : outcome.words;
  }

  async function mapOne(point: PointRow): Promise<void> {
    const result = applyRule(
      {
        ...rule,
        pattern: '',
        kinds: [],
        targetKind: 'same',
        numbering: 'series',
        start: numberOf(point.document) ?? 0,
      },
      outbound?.protocol ?? FIRST_PROTOCOL,
      [{ device: point.parent, ...point.document }],
      mapped,
      outbound?.settings ?? null,
    );
    const [made] = result.rows;
    if (!made?.mapping) {
      problem = made?.words ?? 'It cannot be mapped.';
      return;
    }
    const outcome = await draft.change(
      `map ${point.document.name} to ${chosen}`,
      [{ id: null, kind: 'mapping', parent: chosen, expected: null, document: made.mapping }],
      [],
    );
    problem = outcome.ok ? null : outcome.words;
  }
</script>

<svelte:head><title>Mapping · Halvix</title></svelte:head>

<div class="flex min-h-[480px] grow flex-col gap-3 p-5 pt-4">
  <div class="flex flex-wrap items-center gap-2">
    <h1>Mapping to {outbound?.centre ?? 'the centres'}</h1>
    <span class="grow"></span>
    {#if outbound}
      <a class="button plain" href="/build/mapping/sheet?outbound={chosen}">Sheet for {outbound.centre}</a>
      {#each files as file (file.extension)}<button
          class="button"
          disabled={here.length === 0}
          onclick={() => void saveFile(file)}>{file.words}</button
        >{/each}
      <a class="button plain" href="/build/outbound/{chosen}">Its settings</a>
    {/if}
  </div>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if outbound}
    <p class="max-w-[900px]">
      {#if loaded}{here.length} of {points.length} points can be seen by {outbound.centre}; the others are not available
        there. Source on the left, target on the right.{:else}Loading …{/if}
    </p>
    <DataTable
      name="Mapping"
      {rows}
      {columns}
      rowKey={(row) => row.key}
      open={(row) => mayBuild && row.held && (edited = { held: row.held, point: row.point })}
      empty={loaded ? 'No point yet: there is nothing to map.' : 'Loading …'}
    >
      {#snippet tools()}
        {#each outbounds as { id, document: one } (id)}
          <a
            class="button plain"
            aria-current={one.code === chosen ? 'page' : undefined}
            class:first={one.code === chosen}
            href="/build/mapping?outbound={one.code}">{one.centre}</a
          >
        {/each}
        <select class="field" aria-label="Show" bind:value={only}>
          <option value="all">all points</option>
          <option value="mapped">mapped</option>
          <option value="unmapped">not available there</option>
          <option value="wrong">with a problem</option>
        </select>
        {#if mayBuild}<button class="button first" disabled={!loaded || points.length === 0} onclick={openRule}
            >Map by rule…</button
          >{/if}
      {/snippet}
      {#snippet cell(row, column)}
        {#if column.key === 'actions'}
          {#if mayBuild && row.held}
            {@const { held } = row}
            <button class="text-accent underline" onclick={() => (edited = { held, point: row.point })}>edit</button>
            <button class="ml-2 text-accent underline" onclick={() => void remove(held)}>remove</button>
          {:else if mayBuild && row.point}
            {@const { point } = row}
            <button class="text-accent underline" onclick={() => void mapOne(point)}>map it</button>
          {/if}
        {:else if column.key === 'problem'}
          <span class={row.severity === 'problem' ? 'text-alarm' : 'text-questionable'} title={row.problem}
            >{row.problem}</span
          >
        {:else}
          <span
            class:text-soft={row.held === null || column.key === 'objects'}
            class:italic={row.held === null && column.key === 'way'}
            class:text-accent={column.key === 'way' && row.held && isControl(row.held.document.target.kind)}
            >{column.text(row)}</span
          >
        {/if}
      {/snippet}
    </DataTable>
  {:else}
    <p class="max-w-[720px]">
      There is no centre yet, so nobody can see a point. {#if mayBuild}<a class="word" href="/build/outbound/new"
          >Add a centre</a
        >{/if}
    </p>
  {/if}
</div>

{#if ruling && outbound}
  <MapByRule bind:rule {outbound} {sources} {mapped} close={() => (ruling = false)} />
{/if}
{#if edited}
  <EditMapping {...edited} centre={outbound?.centre ?? chosen} close={() => (edited = null)} />
{/if}
