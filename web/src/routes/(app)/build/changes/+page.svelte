<script lang="ts">
  import { goto, invalidateAll } from '$app/navigation';
  import type { ConfigurationChange, ConfigurationProblem, Effect } from '@halvix/core/config';
  import { messageOf, post } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import { draft } from '$lib/build/draft.svelte.ts';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';
  import { clockTime, fullTime } from '$lib/format.ts';

  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  const isDraft = $derived(data.from === null && data.to === null);
  let note = $state('');
  /** What the dialog was opened on: that is applied, or nothing. */
  let applying = $state.raw<{ version: number; count: number; effects: typeof effects } | null>(null);
  let discarding = $state.raw<{ version: number; count: number } | null>(null);
  let again = $state.raw<{ id: number; version: number; lost: number } | null>(null);
  let problem = $state<string | null>(null);
  let done = $state<string | null>(null);
  let busy = $state(false);
  let pick = $state<{ from: number | null; to: number | null }>({ from: null, to: null });
  let imported = $state<{
    name: string;
    document: unknown;
    problems: ConfigurationProblem[];
    changes: ConfigurationChange[];
    count: number;
    /** Of the draft that it was compared with. */
    version: number;
  } | null>(null);

  const EFFECT: Record<Effect, [one: string, many: string]> = {
    starts: ['starts', 'start'],
    stops: ['stops', 'stop'],
    restarts: ['restarts', 'restart'],
    adopts: ['goes on with the new settings', 'go on with the new settings'],
    listChanges: ['goes on with the new list', 'go on with the new list'],
    goesOn: ['goes on untouched', 'go on untouched'],
  };
  const effects = $derived(
    (['starts', 'stops', 'restarts', 'adopts', 'listChanges', 'goesOn'] as const).flatMap((effect) => {
      const of = data.effects.filter((one) => one.effect === effect);
      return of.length === 0 ? [] : [{ effect, of }];
    }),
  );
  const WHAT = { added: '+', removed: '−', changed: '±' };
  /** A place in the document, as people call it. */
  const whereOf = ({ where, at }: ConfigurationProblem): string =>
    at && /^\w+\.\d/.test(where) ? `${at.kind} ${at.parent} ${at.key}`.replace(/ +/g, ' ') : where;
  const hrefOf = ({ at }: ConfigurationProblem): string | null => {
    if (!at) return null;
    if (at.kind === 'point') return `/build/points?device=${at.parent}`;
    if (at.kind === 'mapping') return `/build/mapping?outbound=${at.parent}`;
    if (at.kind === 'device') return `/build/device/${at.key}`;
    if (at.kind === 'outbound') return `/build/outbound/${at.key}`;
    return at.kind === 'station' ? '/build' : '/build/plan';
  };

  async function send(path: string, body: unknown, words: (revision: number) => string): Promise<void> {
    busy = true;
    const answer = await post(path, body).catch(() => null);
    busy = false;
    problem =
      answer === null
        ? 'The server cannot be reached. Look again before you try once more.'
        : answer.ok
          ? null
          : await messageOf(answer);
    applying = null;
    again = null;
    if (answer?.ok) {
      done = words(((await answer.json()) as { revision: number }).revision);
      note = '';
    }
    await invalidateAll();
  }

  const apply = ({ version }: { version: number }): Promise<void> =>
    send('/api/apply', { version, note }, (id) => `Revision ${id} is applied; the engine takes it over.`);

  async function discard({ version }: { version: number }): Promise<void> {
    busy = true;
    const answer = await post('/api/draft/discard', { version }).catch(() => null);
    busy = false;
    discarding = null;
    problem = answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
    if (answer?.ok) done = `The draft is discarded: it is revision ${data.running} again.`;
    await draft.catchUp();
    await invalidateAll();
  }

  async function onFile(event: Event & { currentTarget: HTMLInputElement }): Promise<void> {
    const [file] = event.currentTarget.files ?? [];
    event.currentTarget.value = '';
    if (!file) return;
    let document: unknown;
    try {
      document = JSON.parse(await file.text());
    } catch (error) {
      problem = `${file.name}: ${error instanceof Error ? error.message : String(error)}`;
      return;
    }
    const answer = await post('/api/configuration', { document }).catch(() => null);
    if (!answer?.ok) {
      problem = answer === null ? 'The server cannot be reached.' : await messageOf(answer);
      return;
    }
    problem = null;
    imported = {
      name: file.name,
      document,
      ...((await answer.json()) as Omit<NonNullable<typeof imported>, 'name' | 'document'>),
    };
  }

  async function takeImported(): Promise<void> {
    if (!imported) return;
    const answer = await post('/api/configuration', { document: imported.document, over: imported.version }).catch(
      () => null,
    );
    problem = answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
    imported = null;
    await draft.catchUp();
    await invalidateAll();
  }
</script>

<svelte:head><title>Changes · Halvix</title></svelte:head>

{#snippet list(changes: readonly ConfigurationChange[], count: number)}
  <ul class="panel max-h-[46vh] overflow-y-auto text-[13px]" data-testid="changes">
    {#each changes as one (`${one.kind} ${one.parent} ${one.key} ${one.what}`)}
      <li class="grid grid-cols-[22px_1fr] gap-2 border-t border-rule px-3 py-1.5 first:border-t-0">
        <b class="mono" class:text-alarm={one.what === 'removed'} title={one.what}>{WHAT[one.what]}</b>
        <span
          >{one.title}{#if one.words.length > 0}: <span class="text-soft">{one.words.join('; ')}</span>{/if}</span
        >
      </li>
    {:else}<li class="px-3 py-2 text-soft">No difference.</li>{/each}
    {#if count > changes.length}<li class="border-t border-rule px-3 py-1.5 text-soft">
        and {count - changes.length} more
      </li>{/if}
  </ul>
{/snippet}

<div class="grid grow content-start gap-4 p-5 pt-4 lg:grid-cols-[1.5fr_1fr]">
  <section class="flex min-w-0 flex-col gap-3" aria-label="Differences">
    <div class="flex flex-wrap items-center gap-2">
      <h1>
        {#if isDraft}{data.changeCount === 0
            ? 'The draft is as it runs'
            : `The draft against ${data.running === null ? 'nothing: nothing runs yet' : `revision ${data.running}, which runs`}`}
        {:else}Revision {data.from ?? data.running} against {data.to === null
            ? 'the draft'
            : `revision ${data.to}`}{/if}
      </h1>
      <span class="grow"></span>
      {#if !isDraft}<a class="button plain" href="/build/changes">Back to the draft</a>
      {:else if mayBuild}
        {#if data.running !== null && data.changeCount > 0}<button
            class="button"
            onclick={() => (discarding = { version: data.version, count: data.changeCount })}>Discard the draft…</button
          >{/if}
        <button
          class="button first"
          disabled={data.changeCount === 0 || data.problemCount > 0 || busy}
          onclick={() => (applying = { version: data.version, count: data.changeCount, effects })}>Apply…</button
        >
      {/if}
    </div>
    {#if done}<p class="font-medium" role="status" data-testid="applied">{done}</p>{/if}
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    {#if isDraft && data.problemCount > 0}
      <div class="panel border-alarm p-3">
        <h2 class="text-alarm">
          {data.problemCount}
          {data.problemCount === 1 ? 'problem keeps' : 'problems keep'} it from being applied
        </h2>
        <ul class="mt-1 max-h-[24vh] overflow-y-auto text-[13px]" data-testid="problems">
          {#each data.problems as one, i (i)}
            <li>
              {#if hrefOf(one)}<a class="word" href={hrefOf(one)}>{whereOf(one)}</a>{:else}{whereOf(one)}{/if}: {one.words}
            </li>
          {/each}
        </ul>
      </div>
    {/if}
    {@render list(data.changes, data.changeCount)}
    {#if isDraft && data.warningCount > 0}
      <details class="text-[13px]" open={data.warningCount < 6}>
        <summary class="cursor-pointer text-questionable"
          >{data.warningCount}
          {data.warningCount === 1 ? 'warning' : 'warnings'}, which do not keep it from being applied</summary
        >
        <ul class="mt-1 max-h-[24vh] overflow-y-auto" data-testid="warnings">
          {#each data.warnings as one, i (i)}
            <li>
              {#if hrefOf(one)}<a class="word" href={hrefOf(one)}>{whereOf(one)}</a>{:else}{whereOf(one)}{/if}: {one.words}
            </li>
          {/each}
        </ul>
      </details>
    {/if}
  </section>
  <section class="flex min-w-0 flex-col gap-2" aria-label="Revisions">
    <div class="flex flex-wrap items-center gap-2">
      <h2 class="text-[15px]">Revisions</h2>
      <span class="grow"></span>
      <button
        class="button"
        disabled={pick.from === null || pick.to === null || pick.from === pick.to}
        onclick={() => void goto(`/build/changes?from=${pick.from}&to=${pick.to}`)}
        >Compare {pick.from ?? '…'} and {pick.to ?? '…'}</button
      >
    </div>
    <ul class="panel max-h-[60vh] overflow-y-auto text-[13px]">
      {#each data.revisions as { id, author, applied, note: about } (id)}
        <li
          class="grid grid-cols-[auto_1fr_auto] items-baseline gap-x-3 border-t border-rule px-3 py-1.5 first:border-t-0"
        >
          <b class="mono">{id}</b>
          <span class="min-w-0"
            >{author} <span class="text-soft" title={fullTime(applied)}>{clockTime(applied, clock.now, 0)}</span>
            {#if id === data.running}<b>runs</b>{/if}<span class="block truncate text-soft" title={about}>{about}</span
            ></span
          >
          <span class="flex items-baseline gap-2">
            <label
              ><input
                type="radio"
                name="from"
                aria-label="from revision {id}"
                value={id}
                bind:group={pick.from}
              />from</label
            >
            <label
              ><input type="radio" name="to" aria-label="to revision {id}" value={id} bind:group={pick.to} />to</label
            >
            <a class="text-accent" href="/api/configuration?revision={id}" download aria-label="Export revision {id}"
              >export</a
            >
            {#if mayBuild && id !== data.running}<button
                class="text-accent underline"
                onclick={() => (again = { id, version: data.version, lost: isDraft ? data.changeCount : 0 })}
                >apply again…</button
              >{/if}
          </span>
        </li>
      {:else}<li class="px-3 py-2 text-soft">Nothing has been applied yet.</li>{/each}
    </ul>
    <div class="flex flex-wrap gap-2">
      <a class="button plain" href="/api/configuration" download>Export the draft</a>
      {#if mayBuild}<label class="button"
          >Import a configuration…<input
            class="sr-only"
            type="file"
            accept=".json"
            onchange={(e) => void onFile(e)}
          /></label
        >{/if}
    </div>
  </section>
</div>

{#snippet overtaken(version: number)}
  {#if data.version !== version}<p role="alert" class="text-alarm">
      The draft changed since this was opened. Close it and look again: nothing is done with what you have not seen.
    </p>{/if}
{/snippet}
{#if applying}
  {@const seen = applying}
  <Sheet title="Apply {seen.count} {seen.count === 1 ? 'change' : 'changes'}?" close={() => (applying = null)}>
    {@render overtaken(seen.version)}
    <ul class="border-l-4 border-alarm bg-ground p-4" data-testid="effects">
      {#each seen.effects as { effect, of } (effect)}
        <li>
          <b>{of.length} {of.length === 1 ? 'session' : 'sessions'} {EFFECT[effect][of.length === 1 ? 0 : 1]}</b
          >{effect === 'goesOn' && of.length > 12 ? '' : `: ${of.map(({ code }) => code).join(', ')}`}
        </li>
      {:else}<li>No session is touched.</li>{/each}
    </ul>
    <form
      class="flex flex-col gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void apply(seen);
      }}
    >
      <label class="flex flex-col gap-0.5"
        >Note for those who come after<input class="field" maxlength="400" bind:value={note} /></label
      >
      <div class="flex justify-end gap-2">
        <button class="button" type="button" onclick={() => (applying = null)}>Not yet</button>
        <button class="button grave" disabled={busy || data.version !== seen.version}
          >Apply to the running system</button
        >
      </div>
    </form>
  </Sheet>
{/if}
{#if discarding}
  {@const seen = discarding}
  <Sheet title="Discard the draft?" close={() => (discarding = null)}>
    {@render overtaken(seen.version)}
    <div class="border-l-4 border-alarm bg-ground p-4">
      <p>
        {seen.count}
        {seen.count === 1 ? 'change goes' : 'changes go'}, of whomever: the draft becomes what runs, revision {data.running}.
        Nothing that runs is touched.
      </p>
    </div>
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (discarding = null)}>Keep it</button>
      <button class="button grave" disabled={busy || data.version !== seen.version} onclick={() => void discard(seen)}
        >Discard it</button
      >
    </div>
  </Sheet>
{/if}
{#if again}
  {@const { id, version, lost } = again}
  <Sheet title="Apply revision {id} again?" close={() => (again = null)}>
    {@render overtaken(version)}
    <div class="border-l-4 border-alarm bg-ground p-4">
      <p>
        It becomes a new revision, and the running system is brought in line with it; only sessions whose part differs
        are touched.
      </p>
      {#if lost > 0}<p class="mt-1 text-alarm">
          The draft becomes the same: its {lost} changes that were not applied are lost.
        </p>{/if}
    </div>
    <div class="flex justify-end gap-2">
      <a class="button plain" href="/build/changes?from={data.running}&to={id}" onclick={() => (again = null)}
        >See the difference first</a
      >
      <button class="button" onclick={() => (again = null)}>Not now</button>
      <button
        class="button grave"
        disabled={busy || data.version !== version}
        onclick={() =>
          void send(
            '/api/revisions',
            { revision: id, version },
            (next) => `Revision ${id} runs again, as revision ${next}.`,
          )}>Apply revision {id} again</button
      >
    </div>
  </Sheet>
{/if}
{#if imported}
  {@const { problems, changes, count } = imported}
  <Sheet
    wide
    title="Import {imported.name}"
    about="The draft becomes this document. What runs goes on until you apply."
    close={() => (imported = null)}
  >
    {#if problems.length > 0}
      <p class="text-alarm">{problems.length} problems: nothing is taken over.</p>
      <ul class="max-h-[44vh] overflow-y-auto text-[13px] text-alarm" role="alert">
        {#each problems as one, i (i)}<li>{whereOf(one)}: {one.words}</li>{/each}
      </ul>
    {:else}{@render list(changes, count)}{/if}
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (imported = null)}>Cancel</button>
      <button class="button first" disabled={problems.length > 0 || count === 0} onclick={() => void takeImported()}
        >Take over {count} changes into the draft</button
      >
    </div>
  </Sheet>
{/if}
