<script lang="ts">
  import { pointsFromSurvey } from '@halvix/core/survey';
  import { KIND_WORDS } from '@halvix/core/point';
  import { definitionOf, DEVICE_PROTOCOLS, type DescribedPoint, deviceOf } from '@halvix/core/protocols';
  import { onDestroy } from 'svelte';
  import { SvelteMap, SvelteSet } from 'svelte/reactivity';
  import DescribedComparison from '$lib/components/build/DescribedComparison.svelte';
  import { onward } from '$lib/onward.svelte';
  import { Changes } from '$lib/build/changes.ts';
  import { codesFor, DescriptionReading } from '$lib/build/describe.ts';
  import type { Summary, Which } from '$lib/build/describe.worker.ts';
  import { newDevice, newLink } from '$lib/build/devices.ts';
  import { draft } from '$lib/build/draft.svelte.ts';
  import { fieldProblems } from '$lib/build/forms.ts';
  import { freeLink } from '$lib/build/links.ts';
  import { proposedCode } from '$lib/build/codes.ts';
  import { grouped } from '$lib/format.ts';

  /** Devices out of a file that describes them: looked at, chosen, and taken into the draft with their points. */
  let { data } = $props();
  const kinds = DEVICE_PROTOCOLS.filter((code) => deviceOf(code).descriptions !== null);
  let protocol = $state(kinds[0]);
  const descriptions = $derived(deviceOf(protocol).descriptions);
  const mayBuild = $derived(data.person.role === 'engineer');

  let file = $state<File | null>(null);
  let octets = $state<number | null>(null);
  let described = $state.raw<Summary | null>(null);
  let problem = $state<string | null>(null);
  const chosen = new SvelteSet<number>();
  const codes = new SvelteMap<number, string>();
  let open = $state<number | null>(null);
  let which = $state<Which>('reported');
  let shown = $state.raw<DescribedPoint[]>([]);
  let station = $state('');
  let newStation = $state('');
  let filter = $state('');
  let showsAll = $state(false);
  let taking = $state(false);
  let reading: DescriptionReading | null = null;

  onDestroy(() => reading?.end());

  const MOST_PROBLEMS = 8;
  const MOST_SHOWN = 300;
  /** Rows that are drawn; the filter finds the others. */
  const MOST_ROWS = 200;
  const stations = $derived(draft.of('station').map(({ document }) => document));
  const problems = $derived(described?.problems ?? []);
  const shownProblems = $derived(showsAll ? problems : problems.slice(0, MOST_PROBLEMS));

  function take(given: File | undefined): void {
    if (!given) return;
    reading?.end();
    [file, octets, described, problem, open] = [given, 0, null, null, null];
    chosen.clear();
    codes.clear();
    reading = new DescriptionReading(protocol, given, {
      progress: (count) => (octets = count),
      done: show,
      failed: (words) => ([problem, octets] = [`The file cannot be read: ${words}.`, null]),
    });
  }

  /** Devices of the draft by their codes, and by the addresses that they are at. */
  const here = $derived.by(() => {
    const ends = Object.fromEntries(
      draft.of('link').map(({ document: { code, host, port } }) => [code, `${host}:${port}`]),
    );
    const own = draft.of('device').filter(({ document }) => document.protocol === protocol);
    return Object.fromEntries(
      own.flatMap(({ document: { code, link } }) => [
        [ends[link], code],
        [code, code],
      ]),
    );
  });
  /** The device of the draft that is the same: at the same address, or by the same name. */
  const knownAs = ({ name, host, port }: Summary['devices'][number]): string | null =>
    (host === '' ? undefined : here[`${host}:${port ?? deviceOf(protocol).port}`]) ?? here[name.toUpperCase()] ?? null;
  let compared = $state<number | null>(null);
  async function compare(at: number): Promise<void> {
    compared = null;
    shown = (await reading?.points([at], which))?.[0] ?? [];
    [open, compared] = [null, at];
  }

  async function look(at: number): Promise<void> {
    compared = null;
    open = open === at ? null : at;
    shown = open === null ? [] : ((await reading?.points([at], which))?.[0] ?? []);
  }

  function show(read: Summary): void {
    [described, octets] = [read, null];
    const taken = draft.of('device').map(({ document }) => document.code);
    codesFor(
      read.devices.map(({ name }) => name),
      taken,
    ).forEach((code, at) => codes.set(at, code));
    if (read.devices.length === 1 && read.devices[0].counts.all > 0) chosen.add(0);
    const near = stations.find(({ code }) => read.devices.some(({ name }) => name.toUpperCase().startsWith(code)));
    station = (near ?? stations[0])?.code ?? '';
  }

  const rows = $derived(
    (described?.devices ?? [])
      .map((device, at) => ({ device, at, count: device.counts[which] }))
      .filter(({ device }) =>
        `${device.name} ${device.description} ${device.about}`.toLowerCase().includes(filter.trim().toLowerCase()),
      ),
  );
  const takenRows = $derived(
    (described?.devices ?? []).flatMap((device, at) =>
      chosen.has(at) ? [{ device, at, count: device.counts[which] }] : [],
    ),
  );
  const count = $derived(takenRows.reduce((sum, one) => sum + one.count, 0));
  const clash = $derived.by((): string | null => {
    const taken = draft.of('device').map(({ document }) => document.code);
    for (const { at, device } of takenRows) {
      const code = codes.get(at) ?? '';
      const wrong = fieldProblems('device', {
        ...newDevice('X', protocol),
        code,
        name: device.name,
        station: 'X',
        link: 'X',
      }).code;
      if (wrong) return `${device.name}: ${wrong}`;
      if (taken.includes(code)) return `${device.name}: another device has the code ${code}`;
      taken.push(code);
    }
    return null;
  });

  async function takeOver(): Promise<void> {
    const goOn = onward();
    if (taking || takenRows.length === 0) return;
    taking = true;
    const changes = new Changes();
    let at = station;
    if (at === '') {
      const name = newStation.trim() || takenRows[0].device.name;
      at =
        proposedCode(
          name,
          stations.map(({ code }) => code),
        ) || 'ST1';
      changes.put('station', undefined, { code: at, name, description: '' });
    }
    const linkCodes: string[] = [];
    const places = takenRows.map(({ at: place }) => place);
    const points = (await reading?.points(places, which)) ?? [];
    for (const [n, { device, at: place }] of takenRows.entries()) {
      const code = codes.get(place) ?? '';
      let link = freeLink(code);
      for (let n = 2; linkCodes.includes(link); n++) link = `${code}-${n}`;
      linkCodes.push(link);
      const plain = newLink(protocol);
      changes.put('link', undefined, {
        ...{ ...plain, code: link, name: `${device.name} line`, host: device.host || '127.0.0.1' },
        port: device.port ?? plain.port,
      });
      const fresh = newDevice(at, protocol);
      changes.put('device', undefined, {
        ...{
          ...fresh,
          code,
          name: (device.description || device.name).slice(0, 80),
          description: device.about.slice(0, 400),
          link,
        },
        settings: { ...fresh.settings, ...device.settings },
      });
      for (const document of pointsFromSurvey(points[n], protocol)) changes.put('point', undefined, document, code);
    }
    const outcome = await draft.change(
      `take ${takenRows.length} from ${file?.name ?? 'a file'}`,
      changes.list,
      changes.before,
    );
    taking = false;
    if (!outcome.ok) {
      problem = outcome.words;
      return;
    }
    await goOn(`/build/points?device=${codes.get(takenRows[0].at) ?? ''}`);
  }
</script>

<svelte:head><title>Take from a file · Halvix</title></svelte:head>

<div class="flex grow flex-col gap-3 p-5">
  <h1>Take devices from a file</h1>
  {#if !mayBuild}
    <p class="text-soft">Only an engineer may take something into the draft. You can look at a file.</p>
  {/if}
  <div class="flex flex-wrap items-center gap-3">
    {#if kinds.length > 1}
      <select class="field" aria-label="Protocol" bind:value={protocol}>
        {#each kinds as code (code)}<option value={code}>{definitionOf(code).words.name}</option>{/each}
      </select>
    {/if}
    <label class="button first cursor-pointer">
      Choose {descriptions?.words}…
      <input
        type="file"
        class="sr-only"
        accept={descriptions?.extensions.join(',')}
        onchange={(event) => take(event.currentTarget.files?.[0])}
      />
    </label>
    {#if file}
      <span class="text-soft" data-testid="file"
        >{file.name}, {grouped(file.size, 0)} octets{#if octets !== null}, {Math.round(
            (octets / Math.max(1, file.size)) * 100,
          )} % read{/if}</span
      >
    {:else}
      <span class="text-soft">It is read here, beside the page, and goes nowhere until you take something over.</span>
    {/if}
  </div>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if described}
    {#if described.about}<p data-testid="about">{described.about}</p>{/if}
    {#if problems.length > 0}
      <section class="panel p-3" aria-label="What is wrong with the file">
        <h2 class="text-[14px]">
          {problems.filter(({ severity }) => severity === 'problem').length} problems, {problems.filter(
            ({ severity }) => severity === 'warning',
          ).length} warnings
        </h2>
        <ul class="mt-1 max-h-[220px] overflow-y-auto text-[13px]">
          {#each shownProblems as { line, severity, words }, n (n)}
            <li class:text-alarm={severity === 'problem'}><span class="mono text-soft">line {line}</span> {words}</li>
          {/each}
        </ul>
        {#if problems.length > shownProblems.length}
          <button class="text-accent underline" onclick={() => (showsAll = true)}>all {problems.length}</button>
        {/if}
      </section>
    {/if}
    {#if described.devices.length > 0}
      <div class="flex flex-wrap items-center gap-3">
        <label class="flex items-center gap-2"
          >Points
          <select class="field" bind:value={which} onchange={() => (open = null)}>
            <option value="reported">that are reported or operated</option>
            <option value="all">all values</option>
          </select></label
        >
        <label class="flex items-center gap-2"
          >Station
          <select class="field" bind:value={station}>
            {#each stations as { code, name } (code)}<option value={code}>{code} {name}</option>{/each}
            <option value="">a new one</option>
          </select></label
        >
        {#if station === ''}
          <label class="flex items-center gap-2"
            >called <input class="field" bind:value={newStation} maxlength="80" /></label
          >
        {/if}
        {#if described.devices.length > 5}
          <input class="field" placeholder="filter" aria-label="Filter" bind:value={filter} />
          <button class="button" onclick={() => rows.forEach(({ at, count: own }) => own > 0 && chosen.add(at))}
            >Choose all shown</button
          >
          <button class="button" onclick={() => chosen.clear()}>Choose none</button>
        {/if}
        <span class="grow"></span>
        {#if clash}<span role="alert" class="text-alarm">{clash}</span>{/if}
        <button
          class="button first"
          disabled={!mayBuild || takenRows.length === 0 || clash !== null || taking}
          onclick={() => void takeOver()}
          >Take {takenRows.length === 1 ? '1 device' : `${takenRows.length} devices`} with {count} points into the draft</button
        >
      </div>
      <div class="panel overflow-x-auto">
        <table class="w-full text-[13px]">
          <thead>
            <tr class="border-b border-rule text-left text-[12px] text-soft">
              <th class="px-2.5 py-1.5 font-normal"></th>
              <th class="px-2.5 py-1.5 font-normal">In the file</th>
              <th class="px-2.5 py-1.5 font-normal">Code here</th>
              <th class="px-2.5 py-1.5 font-normal">What it is</th>
              <th class="px-2.5 py-1.5 font-normal">Address</th>
              <th class="px-2.5 py-1.5 font-normal">It has</th>
              <th class="px-2.5 py-1.5 text-right font-normal">Points</th>
            </tr>
          </thead>
          <tbody>
            {#each rows.slice(0, MOST_ROWS) as { device, at, count: own } (at)}
              <tr class="border-b border-rule last:border-0" data-testid="described-{device.name}">
                <td class="px-2.5 py-1.5"
                  ><input
                    type="checkbox"
                    aria-label="Take {device.name}"
                    disabled={own === 0}
                    checked={chosen.has(at)}
                    onchange={() => (chosen.has(at) ? chosen.delete(at) : chosen.add(at))}
                  /></td
                >
                <td class="mono px-2.5 py-1.5">{device.name}</td>
                <td class="px-2.5 py-1.5"
                  ><input
                    class="field mono w-[150px]"
                    aria-label="Code of {device.name}"
                    value={codes.get(at)}
                    maxlength="24"
                    oninput={(event) => codes.set(at, event.currentTarget.value.trim().toUpperCase())}
                  /></td
                >
                <td class="px-2.5 py-1.5"
                  >{[device.description, device.about].filter(Boolean).join(', ')}
                  {#if knownAs(device)}<button class="ml-1 text-accent underline" onclick={() => void compare(at)}
                      >compare with {knownAs(device)}</button
                    >{/if}</td
                >
                <td class="mono px-2.5 py-1.5">{device.host || 'not said'}</td>
                <td class="px-2.5 py-1.5 text-soft">{device.notes.join(', ')}</td>
                <td class="mono px-2.5 py-1.5 text-right">
                  {#if own > 0}
                    <button class="text-accent underline" aria-expanded={open === at} onclick={() => void look(at)}
                      >{own}</button
                    >
                  {:else}0{/if}
                </td>
              </tr>
              {#if compared === at}
                <tr class="border-b border-rule last:border-0">
                  <td colspan="7" class="px-6 py-2">
                    <DescribedComparison device={knownAs(device) ?? ''} {protocol} points={shown} {mayBuild} />
                  </td>
                </tr>
              {/if}
              {#if open === at}
                <tr class="border-b border-rule last:border-0">
                  <td colspan="7" class="px-6 py-2">
                    <ul class="max-h-[300px] overflow-y-auto">
                      {#each shown.slice(0, MOST_SHOWN) as point (point.address)}
                        <li class="grid grid-cols-[44px_minmax(260px,1fr)_minmax(160px,1fr)_60px] gap-2 text-[12.5px]">
                          <span class="mono text-soft">{KIND_WORDS[point.kind].short}</span>
                          <span class="mono truncate">{point.address}</span>
                          <span class="truncate">{point.name}</span>
                          <span class="text-soft">{point.unit}</span>
                        </li>
                      {/each}
                    </ul>
                    {#if shown.length > MOST_SHOWN}<p class="text-soft">and {shown.length - MOST_SHOWN} more</p>{/if}
                  </td>
                </tr>
              {/if}
            {/each}
          </tbody>
        </table>
        {#if rows.length > MOST_ROWS}
          <p class="px-2.5 py-1.5 text-soft">and {rows.length - MOST_ROWS} more: the filter finds them</p>
        {/if}
      </div>
    {/if}
  {/if}
</div>
