<script lang="ts">
  import { definitionOf, OFFERING } from '@halvix/core/protocols';
  import { goto } from '$app/navigation';
  import {
    LOOPBACK_ONLY,
    OBJECT_SCHEMAS,
    outboundFields,
    sameDocument,
    type OutboundObject,
  } from '@halvix/core/config';
  import { untrack } from 'svelte';
  import { draft } from '$lib/build/draft.svelte.ts';
  import { Followed } from '$lib/build/followed.svelte.ts';
  import { fieldProblems } from '$lib/build/forms.ts';
  import { mappingRows } from '$lib/build/rows.ts';
  import SettingInput from '$lib/components/build/SettingInput.svelte';
  import SettingsForm from '$lib/components/build/SettingsForm.svelte';
  import Sheet from '$lib/components/build/Sheet.svelte';

  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  const held = $derived(data.code === null ? undefined : draft.outbound(data.code));

  const fresh = (protocol = OFFERING[0]): OutboundObject => ({
    ...OBJECT_SCHEMAS.outbound.parse({
      code: 'NEW',
      name: 'centre',
      centre: 'New',
      protocol,
      host: '127.0.0.1',
      port: definitionOf(protocol).outbound?.port,
      settings: definitionOf(protocol).outbound?.first,
      // Nobody from elsewhere, and nothing operated, until somebody says so.
      allowFrom: [...LOOPBACK_ONLY],
      controls: false,
    }),
    code: '',
    centre: '',
  });
  let document = $state.raw<OutboundObject>(untrack(() => held?.document ?? fresh()));
  let tried = $state(false);
  let problem = $state<string | null>(null);
  let removing = $state(false);
  const defaults = $derived(fresh(document.protocol));

  /** Another protocol: its settings begin as they do for a new outbound. */
  function speak(protocol: OutboundObject['protocol']): void {
    const { code, name, centre, host, allowFrom, controls } = document;
    document = { ...fresh(protocol), code, name, centre, host, allowFrom, controls };
  }

  const followed = new Followed<OutboundObject>({
    held: () => held,
    typed: () => document,
    show: (next) => (document = next),
  });
  $effect(() => {
    if (data.code !== null || untrack(() => followed.base) === undefined) return;
    followed.base = undefined;
    document = fresh();
  });

  const words = $derived(definitionOf(document.protocol).words);
  const ends = $derived<[string, string][]>([
    ['Protocol and role', `${words.name} ${words.us} over TCP, calls us`],
    ['Calls', `${document.host}:${document.port}`],
    ...(definitionOf(document.protocol).outbound?.ends(document.settings) ?? []).map(
      ({ what, theirs }): [string, string] => [what, theirs],
    ),
    ['Connects from', document.allowFrom.join(', ') || 'nowhere'],
    ['TLS', document.tls.use ? 'with a certificate of its own' : 'none'],
    ['Operates', document.controls ? 'what is mapped' : 'nothing'],
  ]);
  const problems = $derived(fieldProblems('outbound', document));
  const taken = $derived(data.code === null && draft.outbound(document.code) !== undefined);
  const dirty = $derived(!sameDocument(document, held?.document));

  async function save(): Promise<void> {
    tried = true;
    if (Object.keys(problems).length > 0 || taken) return;
    const outcome = await draft.change(
      held ? `change ${document.code}` : `add ${document.code}`,
      [{ id: held?.id ?? null, kind: 'outbound', parent: '', expected: followed.base?.version ?? null, document }],
      [followed.base?.document ?? null],
    );
    problem = outcome.ok ? null : outcome.words;
    if (!outcome.ok) return;
    if (data.code === null) await goto(`/build/mapping?outbound=${document.code}`);
    else if (document.code !== data.code) await goto(`/build/outbound/${document.code}`);
  }

  async function remove(): Promise<void> {
    if (!held) return;
    const mappings = await mappingRows([held.document.code]);
    const gone = [held, ...mappings];
    const outcome = await draft.change(
      `delete ${held.document.code}`,
      gone.map(({ id, kind, parent, version }) => ({ id, kind, parent, expected: version, document: null })),
      gone.map((one) => one.document),
    );
    if (outcome.ok) await goto('/build');
    else problem = outcome.words;
  }
</script>

<svelte:head><title>{data.code ?? 'New centre'} · Halvix</title></svelte:head>

<div class="flex max-w-[900px] grow flex-col gap-4 p-5">
  <div class="flex flex-wrap items-center gap-2">
    <h1>
      {held
        ? `${held.document.code} ${held.document.centre}`
        : data.code === null
          ? 'A new centre'
          : `There is no outbound ${data.code}`}
    </h1>
    <span class="grow"></span>
    {#if held}
      <a class="button plain" href="/build/mapping?outbound={held.document.code}"
        >{data.draft.counts.mappings[held.document.code] ?? 0} mapped</a
      >
      {#if mayBuild}<button class="button" onclick={() => (removing = true)}>Delete…</button>{/if}
    {/if}
  </div>
  {#if held || data.code === null}
    <p class="text-soft">
      We are the {words.name}
      {words.them} here: the centre is the {words.us}, calls us, and asks. Nothing listens to it before the draft is
      applied.
    </p>
    <form
      class="panel p-4"
      onsubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      {#if data.code === null}
        <div class="mb-3 max-w-[420px]">
          <SettingInput
            field={{ path: 'protocol', title: 'Protocol and our role', type: 'choice' }}
            value={document.protocol}
            disabled={!mayBuild}
            choices={OFFERING.map((one) => {
              const { name, them } = definitionOf(one).words;
              return [one, `${name}; we are the ${them}`] as const;
            })}
            change={(value) => speak(value as OutboundObject['protocol'])}
          />
        </div>
      {/if}
      <SettingsForm
        fields={outboundFields(document.protocol)}
        {document}
        {defaults}
        disabled={!mayBuild}
        problems={tried || held ? { ...problems, ...(taken ? { code: 'another outbound has this code' } : {}) } : {}}
        change={(next) =>
          (document = { ...(next as OutboundObject), code: (next as OutboundObject).code.toUpperCase() })}
      />
      {#if mayBuild}
        <div class="mt-4 flex items-center gap-3">
          <button class="button first" disabled={held !== undefined && !dirty}
            >{held ? 'Save to the draft' : 'Add it to the draft'}</button
          >
          {#if held && dirty}<button class="button" type="button" onclick={() => followed.adopt()}>Discard</button>{/if}
          {#if problem}<span role="alert" class="text-alarm">{problem}</span>{/if}
          {#if followed.by && dirty}<span role="status" class="text-questionable" data-testid="meanwhile"
              >{followed.by} changed it meanwhile. What you typed is still here; saving shows both, discarding shows theirs.</span
            >{/if}
        </div>
      {/if}
    </form>
    <section class="panel p-4" aria-label="Both ends">
      <h2 class="mb-2">What the centre has to be set to</h2>
      <table class="text-[13px]">
        <tbody>
          {#each ends as [what, value] (what)}
            <tr class="border-t border-rule"
              ><th class="py-1 pr-6 text-left font-normal text-soft">{what}</th><td class="mono py-1">{value}</td></tr
            >
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
</div>
{#if removing && held}
  <Sheet title="Delete {held.document.code} {held.document.centre}?" close={() => (removing = false)}>
    <div class="border-l-4 border-alarm bg-ground p-4">
      <p>
        With it go its {data.draft.counts.mappings[held.document.code] ?? 0} mappings. {held.document.centre} sees nothing
        any more once the draft is applied, and events that wait for it are dropped then.
      </p>
      <p class="mt-1">Until then nothing that runs changes, and undo brings it back.</p>
    </div>
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (removing = false)}>Keep it</button>
      <button class="button grave" onclick={() => void remove()}>Delete from the draft</button>
    </div>
  </Sheet>
{/if}
