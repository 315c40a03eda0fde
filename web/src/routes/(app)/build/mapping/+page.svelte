<script lang="ts">
  import { page } from '$app/state';
  import { misfitOf, OBJECT_SCHEMAS, valueAt, withValueAt, type MappingConfig } from '@halvix/core/config';
  import { applyRule, usualNumbering, type MappingRule } from '@halvix/core/mapping';
  import { isControl, KIND_WORDS, POINT_KINDS, targetKinds, type PointKind } from '@halvix/core/point';
  import { addressOf, FIRST_PROTOCOL, numberOf, sortOf, targetsOf } from '@halvix/core/protocols';
  import { onMount } from 'svelte';
  import { draft, type Held } from '$lib/build/draft.svelte.ts';
  import { pointKey, type PointRow } from '$lib/build/grid.ts';
  import { mappingRows, mergedRows, pointRows, targetsTwice } from '$lib/build/rows.ts';
  import SettingInput from '$lib/components/build/SettingInput.svelte';
  import Sheet from '$lib/components/build/Sheet.svelte';
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
  let edited = $state<{ held: Held<MappingConfig>; document: MappingConfig; point: PointRow | null } | null>(null);

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
      const words =
        !point && loaded
          ? 'its source is not in the list'
          : double
            ? 'two points are mapped to this address'
            : (misfit?.words ?? '');
      return {
        key: `m${held.id}`,
        point,
        held,
        problem: words,
        severity: words === '' ? null : !point || double ? 'problem' : (misfit?.severity ?? null),
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
  const targets = $derived(targetsOf(outbound?.protocol ?? FIRST_PROTOCOL));

  const sourceOf = (row: Row): string =>
    row.held ? row.held.document.point : (row.point && addressOf(row.point.document)) || '–';
  const targetOf = ({ held }: Row): string => (held ? addressOf(held.document.target) : '');
  const objectsOf = ({ held }: Row): string => {
    if (!held) return '';
    return targetsOf(held.document.target.at.protocol).words(held.document.target);
  };
  const placeOf = ({ key }: Row): number => places.get(key) ?? 0;
  const columns: Column<Row>[] = [
    {
      key: 'device',
      title: 'Device',
      width: '100px',
      text: (row) => row.held?.document.device ?? row.point?.parent ?? '',
    },
    { key: 'source', title: 'Source', width: '86px', mono: true, text: sourceOf, order: placeOf },
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
    { key: 'target', title: 'Target', width: '90px', mono: true, text: targetOf, order: placeOf },
    {
      key: 'value',
      title: 'Value',
      width: '66px',
      text: ({ held }) => (!held ? '' : held.document.target.value === 'raw' ? 'raw' : 'in units'),
    },
    { key: 'objects', title: 'Objects there', width: '176px', mono: true, text: objectsOf },
    { key: 'problem', title: 'Problem', width: 'minmax(70px,0.8fr)', text: ({ problem: words }) => words },
    { key: 'actions', title: '', width: '128px', actions: true, text: () => '' },
  ];

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
  const sources = $derived(points.map(({ parent, document }) => ({ device: parent, ...document })));
  const preview = $derived(
    ruling
      ? applyRule(
          rule,
          outbound?.protocol ?? FIRST_PROTOCOL,
          sources,
          here.map(({ document }) => document),
        )
      : null,
  );
  const previewed = $derived(
    preview === null
      ? []
      : [
          ...preview.rows.filter(({ state }) => state === 'misfit'),
          ...preview.rows.filter(({ state }) => state !== 'misfit'),
        ].slice(0, 120),
  );

  function openRule(): void {
    rule.numbering = usualNumbering(
      rule,
      outbound?.protocol ?? FIRST_PROTOCOL,
      sources,
      here.map(({ document }) => document),
    );
    rule.start = 0;
    ruling = true;
  }

  async function carryOut(): Promise<void> {
    const made = (preview?.rows ?? []).flatMap(({ state, mapping }) => (state === 'new' && mapping ? [mapping] : []));
    const outcome = await draft.change(
      `map ${made.length} to ${chosen}`,
      made.map((document) => ({ id: null, kind: 'mapping', parent: chosen, expected: null, document })),
      [],
    );
    problem = outcome.ok ? null : outcome.words;
    if (outcome.ok) ruling = false;
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
      here.map(({ document }) => document),
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

  async function saveEdited(): Promise<void> {
    if (!edited) return;
    const { held, document } = edited;
    const outcome = await draft.change(
      `change a mapping of ${chosen}`,
      [{ id: held.id, kind: 'mapping', parent: held.parent, expected: held.version, document }],
      [held.document],
    );
    problem = outcome.ok ? null : outcome.words;
    if (outcome.ok) edited = null;
  }

  function retarget(change: Partial<MappingConfig['target']>): void {
    if (!edited) return;
    const target = { ...edited.document.target, ...change };
    edited = { ...edited, document: { ...edited.document, target } };
  }
  function place(path: string, value: unknown): void {
    if (edited) retarget({ at: withValueAt(edited.document.target.at, path, value) });
  }
  const editProblem = $derived.by(() => {
    if (!edited) return null;
    const parsed = OBJECT_SCHEMAS.mapping.safeParse(edited.document);
    if (!parsed.success) return parsed.error.issues[0].message;
    const [wrong] = targets.problems(edited.document.target);
    if (wrong !== undefined) return wrong;
    return edited.point ? (misfitOf(edited.point.document, edited.document)?.words ?? null) : null;
  });
</script>

<svelte:head><title>Mapping · Halvix</title></svelte:head>

<div class="flex min-h-[480px] grow flex-col gap-3 p-5 pt-4">
  <div class="flex flex-wrap items-center gap-2">
    <h1>Mapping to {outbound?.centre ?? 'the centres'}</h1>
    <span class="grow"></span>
    {#if outbound}
      <a class="button plain" href="/build/mapping/sheet?outbound={chosen}">Sheet for {outbound.centre}</a>
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
      open={(row) =>
        mayBuild && row.held && (edited = { held: row.held, document: row.held.document, point: row.point })}
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
            <button
              class="text-accent underline"
              onclick={() => (edited = { held, document: held.document, point: row.point })}>edit</button
            >
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

{#if ruling && preview && outbound}
  <Sheet
    wide
    title="Map to {outbound.centre} by rule"
    about="The rule is carried out once; the addresses that it gives stay as they are, so that nothing moves at the centre by itself. Carry it out again for points that come later."
    close={() => (ruling = false)}
  >
    <form
      class="flex flex-col gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void carryOut();
      }}
    >
      <div class="grid gap-3 sm:grid-cols-4">
        <label class="col-span-2 flex flex-col gap-0.5"
          >Source: device and name like<input
            class="field"
            placeholder="HLM-F*, *current*; empty: all"
            bind:value={rule.pattern}
          /></label
        >
        <label class="flex flex-col gap-0.5"
          >Kind there
          <select class="field" bind:value={rule.targetKind}>
            <option value="same">as it is</option>
            {#each POINT_KINDS as one (one)}<option value={one}>{KIND_WORDS[one].one}</option>{/each}
          </select></label
        >
        <label class="flex flex-col gap-0.5"
          >Value
          <select class="field" bind:value={rule.value}>
            <option value="raw">raw, as the device has it</option>
            <option value="engineering">in units</option>
          </select></label
        >
        <label class="flex flex-col gap-0.5"
          >Address there
          <select class="field" bind:value={rule.numbering}>
            <option value="keep">as at the device, plus</option>
            <option value="series">the next free from</option>
          </select></label
        >
        <label class="flex flex-col gap-0.5"
          >{rule.numbering === 'keep' ? 'Plus' : 'From'}<input
            class="field mono"
            type="number"
            min="-65535"
            max="65535"
            bind:value={rule.start}
          /></label
        >
        {#each targets.ruleFields as field (field.path)}
          <SettingInput
            {field}
            value={rule.choices[field.path] ?? field.choices?.[0][0]}
            change={(value) => (rule.choices = { ...rule.choices, [field.path]: String(value) })}
          />
        {/each}
        <fieldset class="flex flex-wrap items-end gap-x-3">
          <legend class="text-soft">Only kinds</legend>
          {#each POINT_KINDS as one (one)}
            <label class="flex items-center gap-1"
              ><input
                type="checkbox"
                value={one}
                checked={rule.kinds.includes(one)}
                onchange={(e) =>
                  (rule.kinds = e.currentTarget.checked
                    ? [...rule.kinds, one]
                    : rule.kinds.filter((kind: PointKind) => kind !== one))}
              />{KIND_WORDS[one].short}</label
            >
          {/each}
        </fieldset>
      </div>
      <p data-testid="rule-counts">
        <b>{preview.counts.new} new</b>, {preview.counts.mapped} mapped already,
        <span class:text-alarm={preview.counts.misfit > 0}>{preview.counts.misfit} do not fit</span>
      </p>
      <div class="panel max-h-[36vh] overflow-y-auto text-[13px]">
        <table class="w-full">
          <tbody>
            {#each previewed as row, i (i)}
              <tr
                class="border-b border-rule"
                class:text-soft={row.state === 'mapped'}
                class:text-alarm={row.state === 'misfit'}
              >
                <td class="mono px-2 py-1 whitespace-nowrap"
                  >{row.source.device}
                  {addressOf(row.source) || '–'}</td
                >
                <td class="px-2">{row.source.name}</td>
                <td class="mono px-2 whitespace-nowrap">{row.mapping ? `→ ${addressOf(row.mapping.target)}` : ''}</td>
                <td class="px-2" class:text-questionable={row.state === 'new' && row.words !== ''}>{row.words}</td>
              </tr>
            {:else}<tr><td class="p-2 text-soft">No point matches.</td></tr>{/each}
          </tbody>
        </table>
        {#if preview.rows.length > previewed.length}<p class="p-2 text-soft">
            the first {previewed.length} of {preview.rows.length}
          </p>{/if}
      </div>
      <div class="flex justify-end gap-2">
        <button class="button" type="button" onclick={() => (ruling = false)}>Cancel</button>
        <button class="button first" disabled={preview.counts.new === 0}>Map {preview.counts.new} points</button>
      </div>
    </form>
  </Sheet>
{/if}
{#if edited}
  {@const { target } = edited.document}
  <Sheet
    title="{edited.document.device} {edited.document.point} → {outbound?.centre ?? chosen}"
    about={edited.point?.document.name ?? ''}
    close={() => (edited = null)}
  >
    <form
      class="grid grid-cols-2 gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void saveEdited();
      }}
    >
      <label class="flex flex-col gap-0.5"
        >Kind there
        <select
          class="field"
          value={target.kind}
          onchange={(e) => retarget({ kind: e.currentTarget.value as PointKind })}
        >
          {#each targetKinds(edited.point?.document.kind ?? target.kind) as one (one)}<option value={one}
              >{KIND_WORDS[one].one}</option
            >{/each}
        </select></label
      >
      {#each targets.fields.filter(({ applies }) => applies?.(target) ?? true) as field (field.path)}
        <SettingInput {field} value={valueAt(target.at, field.path)} change={(value) => place(field.path, value)} />
      {/each}
      <label class="flex flex-col gap-0.5"
        >Value
        <select
          class="field"
          value={target.value}
          onchange={(e) => retarget({ value: e.currentTarget.value as 'raw' | 'engineering' })}
        >
          <option value="raw">raw</option><option value="engineering">in units</option>
        </select></label
      >
      <label class="flex flex-col gap-0.5"
        >Deadband, in what is handed on; empty: the point's own<input
          class="field mono"
          value={target.deadband ?? ''}
          oninput={(e) =>
            retarget({ deadband: e.currentTarget.value.trim() === '' ? null : Number(e.currentTarget.value) })}
        /></label
      >
      {#if editProblem}<p role="alert" class="col-span-2 text-alarm">{editProblem}</p>{/if}
      <div class="col-span-2 flex justify-end gap-2">
        <button class="button" type="button" onclick={() => (edited = null)}>Cancel</button>
        <button class="button first">Save to the draft</button>
      </div>
    </form>
  </Sheet>
{/if}
