<script lang="ts">
  import { deviceOf } from '@halvix/core/protocols';
  import { firstProblem } from '@halvix/core/words';
  import { invalidateAll } from '$app/navigation';
  import { deviceFrom, profileSchema, type Placement, type Profile } from '@halvix/core/profile';
  import { messageOf, post } from '$lib/ask.ts';
  import { onward } from '$lib/onward.svelte';
  import { draft, type Change } from '$lib/build/draft.svelte.ts';
  import { download } from '$lib/build/forms.ts';
  import PlaceForm from '$lib/components/build/PlaceForm.svelte';
  import Sheet from '$lib/components/build/grid/Sheet.svelte';

  let { data } = $props();
  const mayBuild = $derived(data.person.role === 'engineer');
  let using = $state.raw<Profile | null>(null);
  let removing = $state<string | null>(null);
  let problem = $state<string | null>(null);

  async function fetched(code: string): Promise<Profile | null> {
    const answer = await fetch(`/api/profiles?code=${encodeURIComponent(code)}`).catch(() => null);
    problem = answer?.ok ? null : 'The profile could not be read.';
    return answer?.ok ? ((await answer.json()) as Profile) : null;
  }

  async function save(code: string): Promise<void> {
    const profile = await fetched(code);
    if (profile) download(`halvix-profile-${code}.json`, `${JSON.stringify(profile, null, 2)}\n`, 'application/json');
  }

  async function onFile(event: Event & { currentTarget: HTMLInputElement }): Promise<void> {
    const [file] = event.currentTarget.files ?? [];
    event.currentTarget.value = '';
    if (!file) return;
    let json: unknown;
    try {
      json = JSON.parse(await file.text());
    } catch (error) {
      problem = `${file.name}: ${error instanceof Error ? error.message : String(error)}`;
      return;
    }
    const parsed = profileSchema.safeParse(json);
    if (!parsed.success) {
      problem = `${file.name}: ${firstProblem(parsed.error)}`;
      return;
    }
    const answer = await post('/api/profiles', parsed.data).catch(() => null);
    problem = answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
    await invalidateAll();
  }

  async function remove(code: string): Promise<void> {
    removing = null;
    const answer = await fetch('/api/profiles', {
      method: 'DELETE',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ code }),
    }).catch(() => null);
    problem = answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
    await invalidateAll();
  }

  async function make(places: Placement[]): Promise<string | null> {
    const goOn = onward();
    if (!using) return null;
    const profile = using;
    const known = new Set(draft.of('station').map(({ document }) => document.code));
    const strange = places.find(({ station }) => !known.has(station));
    if (strange) return `Station: there is no station ${strange.station}`;
    const of = (kind: Change['kind'], document: unknown, parent = ''): Change => ({
      id: null,
      kind,
      parent,
      expected: null,
      document,
    });
    const changes = places.flatMap((place) => {
      const { link, device, points } = deviceFrom(profile, place);
      return [of('link', link), of('device', device), ...points.map((point) => of('point', point, device.code))];
    });
    const outcome = await draft.change(`${places.length} from ${profile.code}`, changes, []);
    if (!outcome.ok) return outcome.words;
    using = null;
    await goOn('/build');
    return null;
  }
</script>

<svelte:head><title>Profiles · Halvix</title></svelte:head>

<div class="flex grow flex-col gap-3 p-5 pt-4">
  <div class="flex flex-wrap items-center gap-2">
    <h1>Profiles</h1>
    <span class="grow"></span>
    {#if mayBuild}<label class="button"
        >Import…<input class="sr-only" type="file" accept=".json" onchange={(e) => void onFile(e)} /></label
      >{/if}
  </div>
  <p class="max-w-[820px] text-soft">
    The settings and the point list of a device without its own name and addresses, for the next twenty of its kind.
    Save one from a device's page. Those that come along are of no particular make: a beginning to be adapted.
  </p>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  <ul class="panel">
    {#each data.profiles as profile (profile.code)}
      <li
        class="grid grid-cols-[170px_1fr_auto_auto] items-center gap-3 border-t border-rule px-4 py-2 first:border-t-0"
      >
        <span class="mono">{profile.code}</span>
        <span
          >{profile.name} <span class="text-soft">{profile.kinds}{profile.generic ? '; comes along' : ''}</span></span
        >
        <span class="mono text-soft">{profile.points} points</span>
        <span class="flex gap-3">
          {#if mayBuild}<button
              class="button"
              aria-label="Use {profile.code}"
              onclick={() => void fetched(profile.code).then((one) => (using = one))}>Use it…</button
            >{/if}
          <button class="button" onclick={() => void save(profile.code)}>Export</button>
          {#if mayBuild && !profile.generic}<button class="button" onclick={() => (removing = profile.code)}
              >Delete…</button
            >{/if}
        </span>
      </li>
    {/each}
  </ul>
</div>

{#if using}
  <Sheet
    wide
    title="Devices from {using.code} {using.name}"
    about="{using.points.length} points each."
    close={() => (using = null)}
  >
    <PlaceForm
      like={{
        code: '',
        name: using.name,
        station: draft.of('station')[0]?.document.code ?? '',
        host: '',
        port: deviceOf(using.protocol).port,
        settings: deviceOf(using.protocol).first,
      }}
      protocol={using.protocol}
      {make}
      word="Add"
    />
  </Sheet>
{/if}
{#if removing}
  {@const code = removing}
  <Sheet title="Delete profile {code}?" close={() => (removing = null)}>
    <p>
      Devices that were made from it stay as they are. The profile itself cannot be brought back; export it first if in
      doubt.
    </p>
    <div class="flex justify-end gap-2">
      <button class="button" onclick={() => (removing = null)}>Keep it</button>
      <button class="button grave" onclick={() => void remove(code)}>Delete the profile</button>
    </div>
  </Sheet>
{/if}
