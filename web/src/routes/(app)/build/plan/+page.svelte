<script lang="ts">
  import { OBJECT_SCHEMAS, type ObjectDocument, type ObjectKind } from '@halvix/core/config';
  import { planTable, readPlan, type PlanRow } from '@halvix/core/plan';
  import { csvOf, decodeText, readTable } from '@halvix/core/pointlist';
  import { draft, type Change, type Held } from '$lib/build/draft.svelte.ts';
  import { download } from '$lib/build/forms.ts';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';
  import DataTable from '$lib/components/DataTable.svelte';
  import type { Column } from '$lib/table.ts';

  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  let problem = $state<string | null>(null);
  let imported = $state<{ name: string; result: ReturnType<typeof readPlan> } | null>(null);
  let radio = $state<{
    held: Held<ObjectDocument<'radio'>> | null;
    texts: Record<string, string>;
    words: string | null;
  } | null>(null);

  const wrong = $derived(
    data.rows.filter(({ problems }) => problems.some(({ severity }) => severity === 'problem')).length,
  );
  const odd = $derived(data.rows.filter(({ problems }) => problems.length > 0).length - wrong);
  const text = (value: number | null): string => (value === null ? '' : String(value));
  const all: Column<PlanRow>[] = [
    { key: 'kind', title: 'What', width: '86px', text: (row) => row.kind },
    { key: 'code', title: 'Code', width: '110px', mono: true, text: (row) => row.code },
    { key: 'station', title: 'Station', width: '76px', mono: true, text: (row) => row.station },
    { key: 'name', title: 'Name', width: 'minmax(130px,1fr)', text: (row) => row.name },
    { key: 'host', title: 'Host', width: '126px', mono: true, text: (row) => row.host },
    {
      key: 'port',
      title: 'Port',
      width: '72px',
      mono: true,
      align: 'right',
      text: (row) => text(row.port),
      order: (row) => row.port ?? 0,
    },
    {
      key: 'ours',
      title: 'Ours',
      width: '72px',
      mono: true,
      align: 'right',
      text: (row) => text(row.ourAddress),
      order: (row) => row.ourAddress ?? -1,
    },
    {
      key: 'theirs',
      title: 'Theirs',
      width: '76px',
      mono: true,
      align: 'right',
      text: (row) => text(row.theirAddress),
      order: (row) => row.theirAddress ?? -1,
    },
    { key: 'radio', title: 'Radio side', width: '132px', mono: true, text: (row) => row.radioSide },
    { key: 'wired', title: 'Wired side', width: '132px', mono: true, text: (row) => row.wiredSide },
    {
      key: 'problem',
      title: 'Problem',
      width: 'minmax(160px,1.4fr)',
      text: (row) => row.problems.map(({ words }) => words).join('; '),
    },
    { key: 'actions', title: '', width: '60px', actions: true, text: () => '' },
  ];
  /** The two networks of radios take room only where there are radios. */
  const columns = $derived(
    data.rows.some(({ kind }) => kind === 'radio')
      ? all
      : all.filter(({ key }) => !['radio', 'wired', 'actions'].includes(key)),
  );
  const hrefOf = (row: PlanRow): string | null =>
    row.kind === 'device'
      ? `/build/device/${row.code}`
      : row.kind === 'outbound'
        ? `/build/outbound/${row.code}`
        : null;

  async function onFile(event: Event & { currentTarget: HTMLInputElement }): Promise<void> {
    const [file] = event.currentTarget.files ?? [];
    event.currentTarget.value = '';
    if (!file) return;
    problem = null;
    const decoded = decodeText(new Uint8Array(await file.arrayBuffer()));
    const table = decoded.ok ? readTable(decoded.value) : decoded;
    if (!table.ok) problem = `${file.name}: ${table.problem}`;
    else imported = { name: file.name, result: readPlan(table.value.rows, data.configuration) };
  }

  const heldOf = (kind: ObjectKind, key: string): Held | undefined =>
    draft.objects.find((one) => one.kind === kind && (one.document as { code?: string }).code === key);

  async function takePlan(): Promise<void> {
    if (!imported) return;
    const changes: Change[] = [];
    const before: unknown[] = [];
    for (const { kind, key, document } of imported.result.changes) {
      const held = heldOf(kind, key);
      changes.push({ id: held?.id ?? null, kind, parent: '', expected: held?.version ?? null, document });
      before.push(held?.document ?? null);
    }
    const outcome = await draft.change(`import ${imported.name}`, changes, before);
    if (outcome.ok) imported = null;
    else problem = outcome.words;
  }

  function editRadio(code: string | null): void {
    const held = code === null ? null : (draft.of('radio').find(({ document }) => document.code === code) ?? null);
    const { radioSide, wiredSide, ...rest } = held?.document ?? {
      code: '',
      name: '',
      station: data.configuration.stations[0]?.code ?? '',
      radioSide: { address: '10.0.0.1', prefix: 24 },
      wiredSide: { address: '192.168.1.1', prefix: 24 },
    };
    radio = {
      held,
      texts: {
        ...rest,
        radioSide: `${radioSide.address}/${radioSide.prefix}`,
        wiredSide: `${wiredSide.address}/${wiredSide.prefix}`,
      },
      words: null,
    };
  }

  async function saveRadio(remove = false): Promise<void> {
    if (!radio) return;
    const { held, texts } = radio;
    const network = (of: string): unknown => {
      const [address, prefix] = of.split('/');
      return { address, prefix: prefix === undefined ? 24 : Number(prefix) };
    };
    const parsed = OBJECT_SCHEMAS.radio.safeParse({
      ...texts,
      radioSide: network(texts.radioSide),
      wiredSide: network(texts.wiredSide),
    });
    if (!remove && !parsed.success) {
      const [issue] = parsed.error.issues;
      radio.words = `${String(issue.path[0])}: ${issue.message}`;
      return;
    }
    const outcome = await draft.change(
      remove ? `delete radio ${texts.code}` : `radio ${texts.code}`,
      [
        {
          id: held?.id ?? null,
          kind: 'radio',
          parent: '',
          expected: held?.version ?? null,
          document: remove ? null : parsed.data,
        },
      ],
      [held?.document ?? null],
    );
    if (outcome.ok) radio = null;
    else radio.words = outcome.words;
  }
</script>

<svelte:head><title>Address plan · Halvix</title></svelte:head>

<div class="flex min-h-[480px] grow flex-col gap-3 p-5 pt-4">
  <div class="flex flex-wrap items-center gap-2">
    <h1>Address plan</h1>
    <span class="grow"></span>
    <button
      class="button"
      onclick={() =>
        download('halvix-address-plan.csv', `\ufeff${csvOf(planTable(data.rows))}`, 'text/csv;charset=utf-8')}
      >Export CSV</button
    >
    {#if mayBuild}
      <label class="button"
        >Import CSV…<input
          class="sr-only"
          type="file"
          accept=".csv,.tsv,.txt"
          onchange={(e) => void onFile(e)}
        /></label
      >
      <button class="button" onclick={() => editRadio(null)}>Add a radio</button>
    {/if}
  </div>
  <p class="max-w-[900px]">
    {#if data.rows.length === 0}Nothing has an address yet.
    {:else if wrong === 0 && odd === 0}{data.rows.length} endpoints, checked as one: nothing clashes.
    {:else}{data.rows.length} endpoints, checked as one: <b class:text-alarm={wrong > 0}>{wrong} with a problem</b>, {odd}
      with a warning.{/if}
  </p>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  <DataTable
    name="Address plan"
    rows={data.rows}
    {columns}
    rowKey={(row) => data.rows.indexOf(row)}
    empty="Nothing has an address yet: add a device first."
  >
    {#snippet cell(row, column)}
      {#if column.key === 'code' && hrefOf(row)}<a class="word" href={hrefOf(row)}>{row.code}</a>
      {:else if column.key === 'problem'}
        <span
          class={row.problems.some(({ severity }) => severity === 'problem') ? 'text-alarm' : 'text-questionable'}
          title={column.text(row)}>{column.text(row)}</span
        >
      {:else if column.key === 'actions'}
        {#if row.kind === 'radio' && mayBuild}<button class="text-accent underline" onclick={() => editRadio(row.code)}
            >edit</button
          >{/if}
      {:else}{column.text(row)}{/if}
    {/snippet}
  </DataTable>
</div>

{#if imported}
  {@const { changes, problems } = imported.result}
  <Sheet
    title="Import {imported.name}"
    about="What it would change. Empty cells leave what is there."
    close={() => (imported = null)}
  >
    {#if problems.length > 0}
      <ul class="max-h-[36vh] overflow-y-auto text-alarm" role="alert">
        {#each problems.slice(0, 200) as one, i (i)}<li>
            row {one.row}, {one.column}{one.value ? ` “${one.value}”` : ''}: {one.words}
          </li>{/each}
      </ul>
      <p>Nothing is taken over while a row is wrong.</p>
    {/if}
    <ul class="max-h-[36vh] overflow-y-auto">
      {#each changes as { kind, key, words } (`${kind} ${key}`)}<li>{words.join('; ')}</li>{:else}<li class="text-soft">
          Nothing changes.
        </li>{/each}
    </ul>
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (imported = null)}>Cancel</button>
      <button
        class="button first"
        disabled={changes.length === 0 || problems.length > 0}
        onclick={() => void takePlan()}>Take over {changes.length}</button
      >
    </div>
  </Sheet>
{/if}
{#if radio}
  {@const edited = radio}
  <Sheet
    title={edited.held ? `Radio ${edited.held.document.code}` : 'A radio'}
    about="A radio has two networks. The radio sides of all radios share one subnet and all differ; the wired sides are not bridged to it and may repeat."
    close={() => (radio = null)}
  >
    <form
      class="grid grid-cols-2 gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void saveRadio();
      }}
    >
      {#each [['code', 'Code'], ['name', 'Name'], ['radioSide', 'Radio side, address/prefix'], ['wiredSide', 'Wired side, address/prefix']] as [key, title] (key)}
        <label class="flex flex-col gap-0.5"
          >{title}<input
            class="field"
            value={edited.texts[key]}
            oninput={(e) =>
              (edited.texts[key] = key === 'code' ? e.currentTarget.value.toUpperCase() : e.currentTarget.value)}
          /></label
        >
      {/each}
      <label class="flex flex-col gap-0.5"
        >Station
        <select class="field" bind:value={edited.texts.station}
          >{#each data.configuration.stations as { code, name } (code)}<option value={code}>{code} {name}</option
            >{/each}</select
        ></label
      >
      {#if edited.words}<p role="alert" class="col-span-2 text-alarm">{edited.words}</p>{/if}
      <div class="col-span-2 flex justify-end gap-2">
        {#if edited.held}<button class="button" type="button" onclick={() => void saveRadio(true)}>Delete it</button
          >{/if}
        <button class="button" type="button" onclick={() => (radio = null)}>Cancel</button>
        <button class="button first">Save to the draft</button>
      </div>
    </form>
  </Sheet>
{/if}
