<script lang="ts">
  import { definitionOf, isLinked, deviceOf, wayOut } from '@halvix/core/protocols';
  import { page } from '$app/state';
  import type { DeviceLife } from '@halvix/core/config';
  import { draft, type Held } from '$lib/build/draft.svelte.ts';
  import { endpointWords, outboundWayWords, STATION_FIELDS, type ObjectDocument } from '@halvix/core/config';
  import { fieldProblems } from '$lib/build/forms.ts';
  import SettingsForm from '$lib/components/build/SettingsForm.svelte';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';
  import MiniStrip from '$lib/components/MiniStrip.svelte';
  import { clock } from '$lib/clock.svelte.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import { devicePath } from '$lib/path.ts';

  type Station = ObjectDocument<'station'>;
  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  const scope = $derived(page.url.searchParams.get('station'));
  const stations = $derived(
    draft
      .of('station')
      .filter(({ document }) => scope === null || document.code === scope)
      .sort((a, b) => a.document.code.localeCompare(b.document.code)),
  );
  const devices = $derived(draft.of('device').sort((a, b) => a.document.code.localeCompare(b.document.code)));
  const links = $derived(new Map(draft.of('link').map(({ document }) => [document.code, document])));
  const outbounds = $derived(draft.of('outbound'));
  const known = $derived(new Set(stations.map(({ document }) => document.code)));
  const astray = $derived(scope === null ? devices.filter(({ document }) => !known.has(document.station)) : []);

  let edited = $state<{ held: Held<Station> | null; document: Station } | null>(null);
  let removing = $state<Held<Station> | null>(null);
  let problem = $state<string | null>(null);
  let tried = $state(false);
  const problems = $derived(edited ? fieldProblems('station', edited.document) : {});
  const network = $derived(draft.of('network')[0]);
  let naming = $state<string | null>(null);

  const LIFE: Record<DeviceLife, string> = {
    drafted: 'drafted',
    onTest: 'on test',
    inService: '',
    outOfService: 'out of service',
  };

  function edit(held: Held<Station> | null): void {
    tried = false;
    problem = null;
    edited = { held, document: held?.document ?? { code: '', name: '', description: '' } };
  }

  async function save(): Promise<void> {
    tried = true;
    if (edited === null || Object.keys(problems).length > 0) return;
    const { held, document } = edited;
    const outcome = await draft.change(
      held ? `change station ${document.code}` : `add station ${document.code}`,
      [{ id: held?.id ?? null, kind: 'station', parent: '', expected: held?.version ?? null, document }],
      [held?.document ?? null],
    );
    if (outcome.ok) edited = null;
    else problem = outcome.words;
  }

  const devicesOf = (station: string): typeof devices => devices.filter(({ document }) => document.station === station);

  async function remove(held: Held<Station>): Promise<void> {
    const inside = devicesOf(held.document.code);
    const codes = new Set(inside.map(({ document }) => document.link));
    // A link that a device elsewhere is on stays.
    const stays = new Set(devices.filter((one) => !inside.includes(one)).map(({ document }) => document.link));
    const along = draft.of('link').filter(({ document: { code } }) => codes.has(code) && !stays.has(code));
    const radios = draft.of('radio').filter(({ document }) => document.station === held.document.code);
    const gone: Held[] = [held, ...inside, ...along, ...radios];
    const outcome = await draft.change(
      `delete station ${held.document.code}`,
      gone.map(({ id, kind, version }) => ({ id, kind, parent: '', expected: version, document: null })),
      gone.map(({ document }) => document),
    );
    removing = null;
    problem = outcome.ok ? null : outcome.words;
  }

  async function rename(): Promise<void> {
    if (naming === null) return;
    const outcome = await draft.change(
      'name the network',
      [
        {
          id: network?.id ?? null,
          kind: 'network',
          parent: '',
          expected: network?.version ?? null,
          document: { network: naming.trim() },
        },
      ],
      [network?.document ?? null],
    );
    if (outcome.ok) naming = null;
    else problem = outcome.words;
  }
</script>

<svelte:head><title>Stations and devices · Halvix</title></svelte:head>

<div class="flex grow flex-col gap-4 p-5">
  <div class="flex flex-wrap items-center gap-2">
    <h1>{scope === null ? (network?.document.network ?? 'A new network') : (stations[0]?.document.name ?? scope)}</h1>
    {#if mayBuild && scope === null}
      <button class="text-accent underline" onclick={() => (naming = network?.document.network ?? '')}>rename</button>
    {/if}
    <span class="grow"></span>
    {#if mayBuild}
      <a class="button first plain" href="/build/device/new{scope ? `?station=${scope}` : ''}">Add a device</a>
      <a class="button plain" href="/build/take">Take from a file</a>
      <button class="button" onclick={() => edit(null)}>Add a station</button>
      <a class="button plain" href="/build/outbound/new">Add a centre</a>
    {/if}
  </div>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if stations.length === 0 && astray.length === 0}
    <p class="max-w-[720px]">
      Nothing here yet. Begin with <b>a device</b>: its station and its link are made along with it. Then its points,
      then a centre that may see them, then apply.
    </p>
  {/if}
  <div class="grid items-start gap-4 2xl:grid-cols-2">
    {#each stations as held (held.id)}
      {@const { code, name, description } = held.document}
      <section class="panel p-4" aria-label="Station {code}">
        <div class="flex items-baseline gap-3">
          <h2 class="text-[15px]"><span class="mono mr-1 text-soft">{code}</span> {name}</h2>
          <span class="min-w-0 grow truncate text-soft">{description}</span>
          {#if mayBuild}
            <button class="text-accent underline" onclick={() => edit(held)} aria-label="Edit station {code}"
              >edit</button
            >
            <button class="text-accent underline" onclick={() => (removing = held)} aria-label="Delete station {code}"
              >delete…</button
            >
          {/if}
        </div>
        <ul class="mt-2">
          {#each devicesOf(code) as { id, document: device } (id)}
            {@const link = links.get(device.link)}
            {@const running = data.frame.devices.find((one) => one.code === device.code)}
            <li class="grid grid-cols-[96px_1fr_auto_auto] items-center gap-3 border-t border-rule py-1.5">
              <a class="word mono" href="/build/device/{device.code}">{device.code}</a>
              <span class="min-w-0 truncate"
                >{device.name}
                <span class="text-soft"
                  >{[
                    ...(isLinked(device.protocol)
                      ? [link ? endpointWords(link) : 'no link']
                      : [definitionOf(device.protocol).words.name]),
                    deviceOf(device.protocol).where(device.settings),
                  ].join(', ')}</span
                >
                {#if LIFE[device.life]}<span class="ml-1 text-questionable">{LIFE[device.life]}</span>{/if}
              </span>
              <a class="text-accent" href="/build/points?device={device.code}"
                >{data.draft.counts.points[device.code] ?? 0} points ›</a
              >
              {#if running && running.life !== 'outOfService'}
                <MiniStrip path={devicePath(running, data.frame.outbounds, live.hops, clock.now)} />
              {:else}<span class="text-soft">not running</span>{/if}
            </li>
          {:else}
            <li class="border-t border-rule py-1.5 text-soft">
              No device yet. {#if mayBuild}<a class="word" href="/build/device/new?station={code}">Add the first one</a
                >{/if}
            </li>
          {/each}
        </ul>
      </section>
    {/each}
    {#if astray.length > 0}
      <section class="panel p-4" aria-label="Devices without a station">
        <h2 class="text-alarm">Devices whose station is not there</h2>
        <ul class="mt-2">
          {#each astray as { id, document: device } (id)}
            <li class="border-t border-rule py-1.5">
              <a class="word mono" href="/build/device/{device.code}">{device.code}</a>
              {device.name}: names station {device.station}
            </li>
          {/each}
        </ul>
      </section>
    {/if}
    {#if scope === null}
      <section class="panel p-4" aria-label="Centres">
        <h2 class="text-[15px]">Centres</h2>
        <ul class="mt-2">
          {#each outbounds as { id, document: outbound } (id)}
            <li class="grid grid-cols-[96px_1fr_auto] items-center gap-3 border-t border-rule py-1.5">
              <a class="word mono" href="/build/outbound/{outbound.code}">{outbound.code}</a>
              <span class="min-w-0 truncate"
                >{outbound.centre}{outbound.name === 'centre' ? '' : `, ${outbound.name}`}
                <span class="text-soft"
                  >{outbound.link === '' ? '' : `${outboundWayWords(outbound, links.get(outbound.link))}; `}{wayOut(
                    outbound.protocol,
                  )?.where(outbound.settings)}</span
                ></span
              >
              <a class="text-accent" href="/build/mapping?outbound={outbound.code}"
                >{data.draft.counts.mappings[outbound.code] ?? 0} mapped ›</a
              >
            </li>
          {:else}
            <li class="border-t border-rule py-1.5 text-soft">
              No centre yet: nobody can see a point. {#if mayBuild}<a class="word" href="/build/outbound/new">Add one</a
                >{/if}
            </li>
          {/each}
        </ul>
      </section>
    {/if}
  </div>
</div>

{#if edited}
  <Sheet title={edited.held ? `Station ${edited.held.document.code}` : 'A new station'} close={() => (edited = null)}>
    <form
      class="flex flex-col gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <SettingsForm
        fields={STATION_FIELDS}
        document={edited.document}
        defaults={edited.document}
        problems={tried ? problems : {}}
        change={(document) =>
          edited &&
          (edited = {
            ...edited,
            document: { ...(document as Station), code: (document as Station).code.toUpperCase() },
          })}
      />
      {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
      <div class="flex justify-end gap-2">
        <button class="button" type="button" onclick={() => (edited = null)}>Cancel</button>
        <button class="button first">{edited.held ? 'Save to the draft' : 'Add it to the draft'}</button>
      </div>
    </form>
  </Sheet>
{/if}
{#if naming !== null}
  <Sheet title="Name of the network" close={() => (naming = null)}>
    <form
      class="flex flex-col gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void rename();
      }}
    >
      <label class="flex flex-col gap-1">Name<input class="field" maxlength="80" bind:value={naming} /></label>
      <div class="flex justify-end gap-2"><button class="button first">Save to the draft</button></div>
    </form>
  </Sheet>
{/if}
{#if removing}
  {@const inside = devicesOf(removing.document.code)}
  <Sheet title="Delete station {removing.document.code} {removing.document.name}?" close={() => (removing = null)}>
    <div class="border-l-4 border-alarm bg-ground p-4">
      {#if inside.length === 0}<p>It has no device. Nothing else changes.</p>
      {:else}
        <p>With it go:</p>
        <ul class="list-inside list-disc">
          {#each inside as { id, document } (id)}
            <li>
              {document.code}
              {document.name}, its link, its {data.draft.counts.points[document.code] ?? 0} points, and their mappings
            </li>
          {/each}
        </ul>
      {/if}
      <p class="mt-1">
        Only the draft changes: what runs goes on until you apply, and undo brings it back. History stays in the
        database.
      </p>
    </div>
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (removing = null)}>Keep it</button>
      <button class="button grave" onclick={() => removing && void remove(removing)}>Delete from the draft</button>
    </div>
  </Sheet>
{/if}
