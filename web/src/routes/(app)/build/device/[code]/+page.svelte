<script lang="ts">
  import { isLinked, deviceOf } from '@halvix/core/protocols';
  import { draftPointSchema, type DeviceObject } from '@halvix/core/config';
  import { deviceFrom, profileOf } from '@halvix/core/profile';
  import { messageOf, post } from '$lib/ask.ts';
  import { onward } from '$lib/onward.svelte';
  import { draft, type Change, type Held } from '$lib/build/draft.svelte.ts';
  import { pointRows } from '$lib/build/grid/rows.ts';
  import DeviceEditor from '$lib/components/build/device/DeviceEditor.svelte';
  import PlaceForm from '$lib/components/build/PlaceForm.svelte';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';
  import SurveyPanel from '$lib/components/build/device/SurveyPanel.svelte';

  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  const held = $derived(data.code === null ? undefined : draft.device(data.code));
  const device = $derived(held?.document);
  const link = $derived(draft.of('link').find(({ document }) => document.code === device?.link));
  const running = $derived(data.frame.devices.find((one) => one.code === data.code && one.life !== 'outOfService'));
  const count = $derived(data.code === null ? 0 : (data.draft.counts.points[data.code] ?? 0));
  const others = $derived(
    draft
      .of('device')
      .filter(({ document }) => document.link === device?.link && document.code !== device?.code)
      .map(({ document }) => document.code),
  );
  let shown = $state<'copy' | 'delete' | 'profile' | 'survey' | null>(null);
  let problem = $state<string | null>(null);
  let profileCode = $state('');
  let profileName = $state('');

  async function remove(one: Held<DeviceObject>): Promise<void> {
    const goOn = onward();
    const points = await pointRows([one.document.code]);
    // A link that others are on stays.
    const gone: Held[] = [one, ...(link && others.length === 0 ? [link] : []), ...points];
    const outcome = await draft.change(
      `delete ${one.document.code}`,
      gone.map(({ id, kind, parent, version }) => ({ id, kind, parent, expected: version, document: null })),
      gone.map(({ document }) => document),
    );
    if (outcome.ok) await goOn('/build');
    else problem = outcome.words;
  }

  /** Copies settings and list; the copy keeps nothing of the addresses. */
  async function copy(places: Parameters<typeof deviceFrom>[1][]): Promise<string | null> {
    const goOn = onward();
    if (!device) return null;
    const points = await pointRows([device.code]);
    const profile = profileOf(
      device,
      points.map(({ document }) => document),
      'COPY',
      device.name,
    );
    const changes: Change[] = places.flatMap((place) => {
      const made = deviceFrom(profile, place);
      const of = (kind: Change['kind'], document: unknown, parent = ''): Change => ({
        id: null,
        kind,
        parent,
        expected: null,
        document,
      });
      return [
        of('link', made.link),
        of('device', { ...made.device, life: device.life, passOnWhileOnTest: device.passOnWhileOnTest }),
        ...made.points.map((point) => of('point', point, made.device.code)),
      ];
    });
    const outcome = await draft.change(`copy ${device.code}`, changes, []);
    if (!outcome.ok) return outcome.words;
    shown = null;
    await goOn(`/build/device/${places[0].code}`);
    return null;
  }

  async function saveProfile(): Promise<void> {
    const goOn = onward();
    if (!device) return;
    const points = (await pointRows([device.code])).map(({ document }) => draftPointSchema.parse(document));
    const answer = await post('/api/profiles', profileOf(device, points, profileCode, profileName)).catch(() => null);
    problem = answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
    if (problem === null) {
      shown = null;
      await goOn('/build/profiles');
    }
  }
</script>

<svelte:head><title>{data.code ?? 'New device'} · Halvix</title></svelte:head>

<div class="flex grow flex-col gap-4 p-5">
  {#if data.code !== null && device === undefined}
    <h1>There is no device {data.code} in the draft</h1>
    <p><a class="word" href="/build">Stations and devices</a></p>
  {:else}
    <div class="flex flex-wrap items-center gap-2">
      <h1>{device ? `${device.code} ${device.name}` : 'A new device'}</h1>
      <span class="grow"></span>
      {#if device}
        <a class="button plain" href="/build/points?device={device.code}">{count} points</a>
        {#if running}<a class="button plain" href="/run/device/{device.code}">See it run</a>{/if}
        {#if mayBuild}
          {#if isLinked(device.protocol)}
            {#if running}<button class="button" onclick={() => (shown = 'survey')}>Survey</button>{/if}
            <button class="button" onclick={() => (shown = 'copy')}>Copy…</button>
            <button
              class="button"
              onclick={() => (([profileCode, profileName] = ['', device.name]), (shown = 'profile'))}
              >Save as profile…</button
            >
          {/if}
          <button class="button" onclick={() => (shown = 'delete')}>Delete…</button>
        {/if}
      {/if}
    </div>
    {#key data.code}
      <DeviceEditor
        code={data.code}
        station={data.station || (draft.of('station')[0]?.document.code ?? '')}
        {mayBuild}
        runs={running !== undefined}
      />
    {/key}
  {/if}
</div>

{#if shown === 'survey' && device}
  <Sheet
    wide
    title="What {device.code} has"
    about="Asks the running device for the present value of everything, and compares that with the list."
    close={() => (shown = null)}
  >
    <SurveyPanel device={device.code} />
  </Sheet>
{/if}
{#if shown === 'copy' && device}
  <Sheet
    wide
    title="Copy {device.code}"
    about="Settings and the list of {count} points go along; each copy has its own name and addresses."
    close={() => (shown = null)}
  >
    <PlaceForm
      like={{
        code: device.code,
        name: device.name,
        station: device.station,
        host: link?.document.host ?? '',
        port: link?.document.port ?? deviceOf(device.protocol).port,
        framing: link?.document.framing,
        settings: device.settings,
      }}
      protocol={device.protocol}
      make={copy}
      word="Copy"
    />
  </Sheet>
{/if}
{#if shown === 'profile' && device}
  <Sheet
    title="Save {device.code} as a profile"
    about="Settings and list, without its names and addresses."
    close={() => (shown = null)}
  >
    <form
      class="flex flex-col gap-3"
      onsubmit={(event) => {
        event.preventDefault();
        void saveProfile();
      }}
    >
      <label class="flex flex-col gap-1"
        >Code of the profile<input
          class="field"
          bind:value={profileCode}
          oninput={() => (profileCode = profileCode.toUpperCase())}
        /></label
      >
      <label class="flex flex-col gap-1">Name<input class="field" bind:value={profileName} /></label>
      {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
      <div class="flex justify-end gap-2">
        <button class="button" type="button" onclick={() => (shown = null)}>Cancel</button>
        <button class="button first">Save the profile</button>
      </div>
    </form>
  </Sheet>
{/if}
{#if shown === 'delete' && held}
  <Sheet title="Delete {held.document.code} {held.document.name}?" close={() => (shown = null)}>
    <div class="border-l-4 border-alarm bg-ground p-4">
      <p>
        With it go {#if others.length === 0}its link {held.document.link},
        {/if}its {count} points, and every mapping of them to a centre.{#if others.length > 0}
          Its link {held.document.link} stays: {others.join(', ')}
          {others.length === 1 ? 'is' : 'are'} on it too.{/if}
      </p>
      <p class="mt-1">
        Only the draft changes: {running ? 'it is polled until you apply' : 'nothing runs'}, and undo brings it back.
        Its history stays in the database.
      </p>
    </div>
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (shown = null)}>Keep it</button>
      <button class="button grave" onclick={() => void remove(held)}>Delete from the draft</button>
    </div>
  </Sheet>
{/if}
