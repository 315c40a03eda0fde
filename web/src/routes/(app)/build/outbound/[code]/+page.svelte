<script lang="ts">
  import { definitionOf, WAYS_OUT, wayOut } from '@halvix/core/protocols';
  import { everyPoint } from '@halvix/core/mapping';
  import {
    isGuestOutbound,
    outboundEnds,
    partnersOf,
    sameDocument,
    type MappingConfig,
    type OutboundObject,
  } from '@halvix/core/config';
  import { untrack } from 'svelte';
  import { Changes } from '$lib/build/changes.ts';
  import { onward } from '$lib/onward.svelte';
  import { proposedCode } from '$lib/build/codes.ts';
  import {
    centreLinkForm,
    completeLink,
    deviceLinkForm,
    newCentreLink,
    newOutbound,
    outboundForm,
    type LinkObject,
  } from '$lib/build/devices.ts';
  import { draft } from '$lib/build/draft.svelte.ts';
  import { Followed } from '$lib/build/followed.svelte.ts';
  import { fieldProblems } from '$lib/build/forms.ts';
  import { freeLink, linksOf, usersOf } from '$lib/build/links.ts';
  import { mappingRows, pointRows } from '$lib/build/grid/rows.ts';
  import LinkPart from '$lib/components/build/LinkPart.svelte';
  import SettingInput from '$lib/components/build/SettingInput.svelte';
  import SettingsForm from '$lib/components/build/SettingsForm.svelte';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';

  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  const held = $derived(data.code === null ? undefined : draft.outbound(data.code));

  const heldLink = $derived(draft.of('link').find(({ document: one }) => one.code === held?.document.link));
  const freshLink = (protocol: OutboundObject['protocol']): LinkObject =>
    newCentreLink(
      protocol,
      untrack(() => draft.of('link')).map(({ document: one }) => one),
    );
  let document = $state.raw<OutboundObject>(untrack(() => held?.document ?? newOutbound(WAYS_OUT[0])));
  let link = $state.raw<LinkObject>(untrack(() => heldLink?.document ?? freshLink(WAYS_OUT[0])));
  /** The link that it is on; empty: one of its own, made with it. */
  let joins = $state(untrack(() => heldLink?.document.code ?? ''));
  let tried = $state(false);
  let problem = $state<string | null>(null);
  let removing = $state(false);
  const defaults = $derived(newOutbound(document.protocol));
  const linkDefaults = $derived(freshLink(document.protocol));

  /** Another protocol: its settings begin as they do for a new outbound. A link of its own carries it. */
  function speak(protocol: OutboundObject['protocol']): void {
    const { code, name, centre, allowFrom, controls } = document;
    const fresh = newOutbound(protocol);
    const isPushed = definitionOf(protocol).publishes !== null;
    // A name that was the usual one of another kind is none that somebody wrote.
    const own = name === newOutbound(document.protocol).name ? fresh.name : name;
    document = { ...fresh, code, name: own, centre, allowFrom, controls: !isPushed && controls };
    // Whoever reads a file or a message knows nothing of counts.
    if (isPushed) value = 'engineering';
    if (joins !== '' && link.protocol === protocol) return;
    joins = '';
    link = freshLink(protocol);
  }
  function join(next: string): void {
    joins = next;
    // In the conversation of a device it is that device.
    const [device, ...others] = usersOf(next).filter(({ kind }) => kind === 'device');
    if (device !== undefined && others.length === 0) document = { ...document, partner: device.code };
    link = links.find(({ document: one }) => one.code === next)?.document ?? freshLink(document.protocol);
  }

  const followed = new Followed<OutboundObject>({
    held: () => held,
    typed: () => wanted.document,
    show: (next) => ([document, joins] = [next, next.link]),
  });
  const links = $derived(linksOf('outbound').filter(({ document: one }) => one.protocol === document.protocol));
  const chosenLink = $derived(links.find(({ document: one }) => one.code === joins));
  const isGuest = $derived(chosenLink !== undefined && isGuestOutbound(document, link));
  const followedLink = new Followed<LinkObject>({
    held: () => chosenLink,
    typed: () => link,
    show: (next) => (link = next),
  });
  $effect(() => {
    if (data.code !== null || untrack(() => followed.base) === undefined) return;
    followed.base = undefined;
    document = newOutbound(WAYS_OUT[0]);
    joins = '';
    link = freshLink(WAYS_OUT[0]);
  });

  const publishes = $derived(definitionOf(document.protocol).publishes !== null);
  const needsLink = $derived(wayOut(document.protocol)?.links.length !== 0);
  const code = $derived(
    document.code ||
      proposedCode(
        document.centre,
        draft.of('outbound').map(({ document: one }) => one.code),
      ),
  );
  const ownLink = $derived(freeLink(code));
  const wanted = $derived({
    document: { ...document, code, link: needsLink ? (chosenLink ? joins : ownLink) : '' },
    link: completeLink(
      chosenLink ? link : { ...link, code: ownLink, name: link.name || `To ${document.centre || code}`.slice(0, 80) },
    ),
  });
  const others = (code: string): string[] =>
    usersOf(code)
      .map((user) => user.code)
      .filter((user) => user !== held?.document.code);
  const neighbours = $derived(chosenLink ? others(joins) : []);
  const words = $derived(definitionOf(document.protocol).words);
  const ends = $derived<[string, string][]>([
    ...outboundEnds(document, needsLink ? wanted.link : undefined).map(({ what, theirs }): [string, string] => [
      what,
      theirs,
    ]),
    ...(publishes ? [] : [['Operates', document.controls ? 'what is mapped' : 'nothing'] as [string, string]]),
  ]);
  const problems = $derived(fieldProblems('outbound', wanted.document));
  const linkProblems = $derived(needsLink ? fieldProblems('link', wanted.link) : {});
  /** What does not fit within its settings: it can be saved, and not be applied. */
  const misfits = $derived(
    Object.keys(problems).length > 0 ? [] : (wayOut(document.protocol)?.check(document.settings) ?? []),
  );
  const partners = $derived<[string, string][]>([
    ['', 'no'],
    ...draft.of('device').map(({ document: one }): [string, string] => [one.code, `${one.code} ${one.name}`]),
  ]);
  const taken = $derived(data.code === null && draft.outbound(code) !== undefined);
  const good = $derived(Object.keys(problems).length + Object.keys(linkProblems).length === 0 && !taken);
  const dirty = $derived(
    !sameDocument(wanted.document, held?.document) || (needsLink && !sameDocument(wanted.link, heldLink?.document)),
  );
  const meanwhile = $derived(followed.by ?? followedLink.by);

  // ---- what a new one offers from the beginning

  const listed = $derived(Object.values(data.draft.counts.points).reduce((sum, n) => sum + n, 0));
  let offers = $state<'nothing' | 'all'>('nothing');
  let value = $state<'raw' | 'engineering'>('raw');
  async function offered(): Promise<MappingConfig[]> {
    if (data.code !== null || offers === 'nothing') return [];
    const points = await pointRows(null);
    return everyPoint(
      document.protocol,
      points
        .filter(({ parent }) => !partnersOf(document).includes(parent))
        .map(({ parent, document: point }) => ({ device: parent, ...point })),
      value,
      document.settings,
    );
  }

  let again = false;
  let added = $state<string | null>(null);
  /** After a centre was added comes the next one, in the same terms. */
  function beginAgain(): void {
    const { protocol, allowFrom, controls } = document;
    document = { ...newOutbound(protocol), allowFrom, controls };
    followed.base = undefined;
    joins = '';
    link = freshLink(protocol);
    tried = false;
  }

  async function save(): Promise<void> {
    const goOn = onward();
    tried = true;
    if (!good) return;
    // Once it is in the draft, another code is free.
    const own = code;
    const changes = new Changes();
    if (needsLink) changes.put('link', chosenLink && followedLink.base, wanted.link);
    // The link that it leaves goes with it when nobody else is on it.
    if (heldLink && heldLink !== chosenLink && others(heldLink.document.code).length === 0)
      changes.put('link', heldLink, null);
    changes.put('outbound', held && followed.base, wanted.document);
    try {
      for (const mapping of await offered()) changes.put('mapping', undefined, mapping, own);
    } catch {
      problem = 'The points could not be loaded. Try again.';
      return;
    }
    const outcome = await draft.change(held ? `change ${own}` : `add ${own}`, changes.list, changes.before);
    problem = outcome.ok ? null : outcome.words;
    if (!outcome.ok) return;
    added = data.code === null ? own : null;
    if (data.code === null && again) beginAgain();
    else if (data.code === null) await goOn(`/build/mapping?outbound=${own}`);
    else if (own !== data.code) await goOn(`/build/outbound/${own}`);
  }

  async function remove(): Promise<void> {
    const goOn = onward();
    if (!held) return;
    const mappings = await mappingRows([held.document.code]);
    const alone = heldLink && others(heldLink.document.code).length === 0 ? [heldLink] : [];
    const gone = [held, ...alone, ...mappings];
    const outcome = await draft.change(
      `delete ${held.document.code}`,
      gone.map(({ id, kind, parent, version }) => ({ id, kind, parent, expected: version, document: null })),
      gone.map((one) => one.document),
    );
    if (outcome.ok) await goOn('/build');
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
          ? publishes
            ? 'A new destination'
            : 'A new centre'
          : `There is no outbound ${data.code}`}
    </h1>
    <span class="grow"></span>
    {#if held}
      <a class="button plain" href="/build/mapping?outbound={held.document.code}"
        >{data.draft.counts.mappings[held.document.code] ?? 0} mapped</a
      >
      <a class="button plain" href="/build/outbound/{held.document.code}/agreement">Agreement</a>
      {#if mayBuild}<button class="button" onclick={() => (removing = true)}>Delete…</button>{/if}
    {/if}
  </div>
  {#if held || data.code === null}
    <p class="text-soft">
      {#if publishes}
        {words.name}: we are the {words.us}, and nobody asks for it. Nothing goes out before the draft is applied.
      {:else}
        We are the {words.name}
        {words.them} here: the centre is the {words.us} and asks{isGuest
          ? `, in the ${wayOut(document.protocol)?.shares} that we make with ${document.partner}`
          : ''}. Nothing listens to it before the draft is applied.
      {/if}
    </p>
    <form
      class="flex flex-col gap-4"
      onsubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <section class="panel p-4" aria-label="What it is">
        {#if data.code === null}
          <div class="mb-3 max-w-[420px]">
            <SettingInput
              field={{ path: 'protocol', title: 'Protocol and our role', type: 'choice' }}
              value={document.protocol}
              disabled={!mayBuild}
              choices={WAYS_OUT.map((one) => {
                const { words: own, publishes: pushes } = definitionOf(one);
                return [one, `${own.name}; we are the ${pushes ? own.us : own.them}`] as const;
              })}
              change={(value) => speak(value as OutboundObject['protocol'])}
            />
          </div>
        {/if}
        <SettingsForm
          fields={outboundForm(document.protocol, link)}
          {document}
          {defaults}
          disabled={!mayBuild}
          placeholders={{ code }}
          choices={{ partner: partners }}
          problems={tried || held ? { ...problems, ...(taken ? { code: 'another outbound has this code' } : {}) } : {}}
          change={(next) =>
            (document = { ...(next as OutboundObject), code: (next as OutboundObject).code.toUpperCase() })}
        />
        {#each misfits as misfit (misfit)}<p role="alert" class="mt-3 text-alarm">{misfit}</p>{/each}
      </section>
      {#if needsLink}<LinkPart
          {links}
          {joins}
          {link}
          fields={isGuest ? deviceLinkForm(document.protocol) : centreLinkForm(document.protocol)}
          mayShare
          defaults={linkDefaults}
          {neighbours}
          problems={tried || held ? linkProblems : {}}
          disabled={!mayBuild}
          {join}
          change={(next) => (link = next)}
        />{/if}
      {#if data.code === null && listed > 0}
        <section class="panel flex flex-wrap items-end gap-4 p-4" aria-label="What it sees">
          <div class="min-w-[260px]">
            <SettingInput
              field={{ path: 'offers', title: 'Sees at once', type: 'choice', help: 'All else is said under Mapping' }}
              value={offers}
              disabled={!mayBuild}
              choices={[
                ['nothing', 'nothing yet'],
                ['all', `all ${listed} points of the draft`],
              ]}
              change={(next) => (offers = next as typeof offers)}
            />
          </div>
          {#if offers === 'all'}
            <div class="min-w-[260px]">
              <SettingInput
                field={{
                  path: 'value',
                  title: 'Value',
                  type: 'choice',
                  help: 'At the addresses of the devices, or in a series where two would meet',
                }}
                {value}
                disabled={!mayBuild}
                choices={[
                  ['raw', 'as the device gives it'],
                  ['engineering', 'in its unit'],
                ]}
                change={(next) => (value = next as typeof value)}
              />
            </div>
          {/if}
        </section>
      {/if}
      {#if mayBuild}
        <div class="flex items-center gap-3">
          <button class="button first" disabled={held !== undefined && !dirty} onclick={() => (again = false)}
            >{held ? 'Save to the draft' : 'Add it to the draft'}</button
          >
          {#if data.code === null}<button class="button" onclick={() => (again = true)}>Add it, and another</button
            >{/if}
          {#if added && data.code === null && document.centre === ''}<span role="status" data-testid="added"
              ><a class="word" href="/build/mapping?outbound={added}">{added}</a> is in the draft.</span
            >{/if}
          {#if held && dirty}<button
              class="button"
              type="button"
              onclick={() => {
                followed.adopt();
                followedLink.adopt();
              }}>Discard</button
            >{/if}
          {#if problem}<span role="alert" class="text-alarm">{problem}</span>{/if}
          {#if meanwhile && dirty}<span role="status" class="text-questionable" data-testid="meanwhile"
              >{meanwhile} changed it meanwhile. What you typed is still here; saving shows both, discarding shows theirs.</span
            >{/if}
        </div>
      {/if}
    </form>
    <section class="panel p-4" aria-label="Both ends">
      <h2 class="mb-2">{publishes ? 'What the other side has to know' : 'What the centre has to be set to'}</h2>
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
