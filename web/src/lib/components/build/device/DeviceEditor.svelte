<script lang="ts">
  import { beforeNavigate } from '$app/navigation';
  import { sameDocument, twoEnds, type DeviceObject, type DraftPoint } from '@halvix/core/config';
  import {
    definitionOf,
    isLinked,
    DEVICE_PROTOCOLS,
    usualFraming,
    type ProtocolCode,
    deviceOf,
  } from '@halvix/core/protocols';
  import { onMount, untrack } from 'svelte';
  import { proposedCode } from '$lib/build/codes.ts';
  import { onward } from '$lib/onward.svelte';
  import { completeLink, deviceForm, deviceLinkForm, newDevice, newLink, type LinkObject } from '$lib/build/devices.ts';
  import { freeLink, linksOf } from '$lib/build/links.ts';
  import { Changes } from '$lib/build/changes.ts';
  import { draft } from '$lib/build/draft.svelte.ts';
  import { Followed } from '$lib/build/followed.svelte.ts';
  import { fieldProblems } from '$lib/build/forms.ts';
  import type { PointRow } from '$lib/build/grid/grid.ts';
  import { mergedRows, pointRows } from '$lib/build/grid/rows.ts';
  import LinkPart from '../LinkPart.svelte';
  import RequestPlan from './RequestPlan.svelte';
  import SettingInput from '../SettingInput.svelte';
  import SettingsForm from '../SettingsForm.svelte';
  import TryIt from './TryIt.svelte';

  /** A device with its link: a new one, or one of the draft. */
  interface Props {
    code: string | null;
    station: string;
    mayBuild: boolean;
    /** Whether the engine holds a connection to it now. */
    runs: boolean;
  }
  let { code, station, mayBuild, runs }: Props = $props();

  /** Its list, as drafted. */
  let points = $state.raw<DraftPoint[]>([]);
  onMount(() => {
    const own = code;
    if (own === null) return;
    let rows: PointRow[] = [];
    const show = (next: PointRow[]): void => void ([rows, points] = [next, next.map(({ document }) => document)]);
    void pointRows([own]).then(show, () => {});
    return draft.listen((changed) =>
      show(
        mergedRows(rows, changed.filter(({ kind, parent }) => kind === 'point' && parent === own) as PointRow[], null),
      ),
    );
  });

  const held = $derived(code === null ? undefined : draft.device(code));
  const heldLink = $derived(draft.of('link').find(({ document }) => document.code === held?.document.link));
  let device = $state.raw<DeviceObject>(untrack(() => held?.document ?? newDevice(station)));
  let link = $state.raw<LinkObject>(untrack(() => heldLink?.document ?? newLink()));
  /** The link that it is on; empty: one of its own, made with it. */
  let joins = $state(untrack(() => held?.document.link ?? ''));
  let stationCode = $state('');
  let stationName = $state('');
  let tried = $state(false);
  let problem = $state<string | null>(null);
  /** Those to devices. */
  const links = $derived(linksOf('device'));
  const chosenLink = $derived(links.find(({ document }) => document.code === joins));
  const followed = new Followed<DeviceObject>({
    held: () => held,
    typed: () => wanted.device,
    show: (document) => ([device, joins] = [document, document.link]),
  });
  const followedLink = new Followed<LinkObject>({
    held: () => chosenLink,
    typed: () => link,
    show: (document) => (link = document),
  });
  const meanwhile = $derived(followed.by ?? followedLink.by);

  const stations = $derived(draft.of('station').map(({ document }) => document));
  const choosesNew = $derived(device.station === '' || (code === null && stations.length === 0));
  const isNew = $derived(code === null);
  const neighbours = $derived(
    draft
      .of('device')
      .filter(({ document }) => chosenLink && document.link === joins && document.code !== code)
      .map(({ document }) => document.code),
  );
  function join(next: string): void {
    joins = next;
    link = links.find(({ document }) => document.code === next)?.document ?? newLink(device.protocol);
    if (link.protocol !== device.protocol) speak(link.protocol);
  }

  /** Another protocol: its settings begin as they do for a new device. A link of its own carries it. */
  function speak(protocol: ProtocolCode): void {
    const { code: known, name, description, station: at, link: on, life, passOnWhileOnTest } = device;
    device = { ...newDevice(at, protocol), code: known, name, description, link: on, life, passOnWhileOnTest };
    if (joins !== '' && link.protocol !== protocol) joins = '';
    if (joins !== '') return;
    const port = link.port === deviceOf(link.protocol).port ? deviceOf(protocol).port : link.port;
    link = { ...link, protocol, port, framing: usualFraming(protocol, link.type) };
  }
  const ownLink = $derived(freeLink(device.code));
  const newStation = $derived(
    stationCode ||
      proposedCode(
        stationName,
        stations.map((one) => one.code),
      ),
  );
  const linked = $derived(isLinked(device.protocol));
  const wanted = $derived({
    device: {
      ...device,
      name: device.name || device.code,
      station: choosesNew ? newStation : device.station,
      link: !linked ? '' : chosenLink ? joins : ownLink,
    },
    link: completeLink(
      !chosenLink ? { ...link, code: ownLink, name: link.name || `${device.name || device.code} line` } : link,
    ),
    station: choosesNew ? { code: newStation, name: stationName, description: '' } : null,
  });
  const all = $derived({
    device: fieldProblems('device', wanted.device),
    link: linked ? fieldProblems('link', wanted.link) : {},
    station: wanted.station === null ? {} : fieldProblems('station', wanted.station),
  });
  const clash = $derived(
    isNew && draft.device(device.code) !== undefined
      ? 'another device has this code'
      : stationTaken()
        ? 'another station has this code'
        : null,
  );
  const good = $derived(
    Object.keys(all.device).length + Object.keys(all.link).length + Object.keys(all.station).length === 0 &&
      clash === null,
  );
  const show = $derived(tried || !isNew);
  const dirty = $derived(
    isNew
      ? device.code !== '' || (linked && link.host !== '')
      : !sameDocument(wanted.device, held?.document) || (linked && !sameDocument(wanted.link, heldLink?.document)),
  );
  const ends = $derived(linked ? twoEnds(wanted.device, wanted.link) : []);
  const words = $derived(definitionOf(device.protocol).words);
  let leaving = false;
  /** What was added last, and another one is to follow. */
  let again = false;
  let added = $state<string | null>(null);
  let form = $state<HTMLFormElement>();

  function stationTaken(): boolean {
    return choosesNew && stations.some((one) => one.code === newStation);
  }

  beforeNavigate(({ cancel, willUnload }) => {
    if (!dirty || leaving || !mayBuild || willUnload) return;
    if (!confirm('Leave without saving what you changed here?')) cancel();
  });

  async function save(): Promise<void> {
    const goOn = onward();
    tried = true;
    if (!good) return;
    // Once it is in the draft, other codes are free.
    const made = wanted;
    const changes = new Changes();
    if (wanted.station) changes.put('station', undefined, wanted.station);
    if (linked) changes.put('link', chosenLink && followedLink.base, wanted.link);
    // The link that it leaves goes with it when nobody else is on it.
    const left = heldLink && heldLink !== chosenLink ? heldLink : undefined;
    const stays = draft
      .of('device')
      .some(({ document }) => document.link === left?.document.code && document.code !== code);
    if (left && !stays) changes.put('link', left, null);
    changes.put('device', held && followed.base, wanted.device);
    const outcome = await draft.change(
      isNew ? `add ${made.device.code}` : `change ${made.device.code}`,
      changes.list,
      changes.before,
    );
    if (!outcome.ok) {
      problem = outcome.words;
      return;
    }
    problem = null;
    added = isNew ? made.device.code : null;
    leaving = true;
    if (isNew && again) beginAgain(made.device.station);
    else if (isNew) await goOn(`/build/points?device=${made.device.code}`);
    else if (made.device.code !== code) await goOn(`/build/device/${made.device.code}`);
    leaving = false;
  }

  /** After a device was added comes the next one of its station, on its line where it shares one. */
  function beginAgain(station: string): void {
    const { protocol } = device;
    device = newDevice(station, protocol);
    if (joins === '') link = { ...link, code: '', name: '', host: '', port: linkDefaults.port };
    [stationCode, stationName] = ['', ''];
    tried = false;
    form?.querySelector<HTMLInputElement>('[aria-label="Device"] input')?.focus();
  }

  const choices = $derived({
    life: [
      ['drafted', 'drafted: not collected'],
      ['onTest', 'on test: collected, not passed on'],
      ['inService', 'in service'],
      ['outOfService', 'out of service: not polled'],
    ] as const,
  });
  const defaults = $derived(newDevice('', device.protocol));
  const linkDefaults = $derived(newLink(link.protocol));
</script>

<form
  bind:this={form}
  class="grid gap-4 lg:grid-cols-[1.3fr_1fr]"
  onsubmit={(event) => {
    event.preventDefault();
    void save();
  }}
>
  <div class="flex flex-col gap-4">
    <section class="panel p-4" aria-label="What it is">
      <h2 class="mb-3">Protocol and place</h2>
      <div class="grid grid-cols-1 gap-x-4 gap-y-3 sm:grid-cols-2">
        <SettingInput
          field={{
            path: 'protocol',
            title: 'Protocol and our role',
            type: 'choice',
            help: linked ? `the device is the ${definitionOf(device.protocol).words.them}` : words.them,
          }}
          value={device.protocol}
          disabled={!mayBuild || !isNew}
          choices={DEVICE_PROTOCOLS.map((one) => {
            const { name, us } = definitionOf(one).words;
            return [one, isLinked(one) ? `${name}; we are the ${us}` : `${name}, without a link`] as const;
          })}
          change={(value) => speak(value as ProtocolCode)}
        />
        {#if stations.length > 0}
          <SettingInput
            field={{ path: 'station', title: 'Station', type: 'choice' }}
            value={device.station}
            disabled={!mayBuild}
            choices={[
              ...stations.map(({ code: one, name }) => [one, `${one} ${name}`] as const),
              ['', 'a new station …'] as const,
            ]}
            change={(value) => (device = { ...device, station: String(value) })}
          />
        {/if}
        {#if choosesNew}
          <SettingInput
            field={{
              path: 'code',
              title: 'Station code',
              type: 'text',
              help: 'Short and unique: capital letters, digits, hyphens',
            }}
            value={stationCode}
            placeholder={newStation}
            problem={show ? all.station.code : undefined}
            change={(value) => (stationCode = String(value).toUpperCase())}
          />
          <SettingInput
            field={{ path: 'name', title: 'Station name', type: 'text' }}
            value={stationName}
            problem={show ? all.station.name : undefined}
            change={(value) => (stationName = String(value))}
          />
        {/if}
      </div>
    </section>
    <section class="panel p-4" aria-label="Device">
      <h2 class="mb-3">Device</h2>
      <SettingsForm
        fields={deviceForm(device.protocol)}
        document={device}
        {defaults}
        {choices}
        placeholders={{ name: device.code }}
        disabled={!mayBuild}
        problems={show ? all.device : {}}
        change={(next) => {
          const typed = next as DeviceObject;
          device = typed.code === device.code ? typed : { ...typed, code: typed.code.toUpperCase() };
        }}
      />
    </section>
    {#if linked}
      <LinkPart
        {links}
        {joins}
        {link}
        fields={deviceLinkForm(device.protocol)}
        defaults={linkDefaults}
        {neighbours}
        problems={show ? all.link : {}}
        disabled={!mayBuild}
        {join}
        change={(next) => (link = next)}
      />
    {/if}
    {#if mayBuild}
      <div class="flex items-center gap-3">
        <button class="button first" disabled={!isNew && !dirty} onclick={() => (again = false)}
          >{isNew ? 'Add it to the draft' : 'Save to the draft'}</button
        >
        {#if isNew}<button class="button" onclick={() => (again = true)}>Add it, and another</button>{/if}
        {#if added && isNew && !dirty}<span role="status" data-testid="added"
            ><a class="word" href="/build/points?device={added}">{added}</a> is in the draft.</span
          >{/if}
        {#if clash && show}<span role="alert" class="text-alarm">{clash}</span>{/if}
        {#if problem}<span role="alert" class="text-alarm">{problem}</span>{/if}
        {#if !good && tried && !clash}<span role="alert" class="text-alarm">Some fields need another look.</span>{/if}
        {#if !isNew && dirty}<button
            class="button"
            type="button"
            onclick={() => {
              followed.adopt();
              followedLink.adopt();
            }}>Discard</button
          >{/if}
        {#if meanwhile && dirty}<span role="status" class="text-questionable" data-testid="meanwhile"
            >{meanwhile} changed it meanwhile. What you typed is still here; saving shows both, discarding shows theirs.</span
          >{/if}
      </div>
    {/if}
  </div>
  {#if linked}
    <div class="flex flex-col gap-4">
      {#if mayBuild}
        <TryIt
          protocol={device.protocol}
          request={() => ({ type: 'try', link: wanted.link, device: wanted.device })}
          blocked={Object.keys(all.link).some((path) => path !== 'code' && path !== 'name') ||
          deviceOf(device.protocol).placed.some((key) => all.device[`settings.${key}`])
            ? 'Fill in the addresses first'
            : wanted.link.code === ''
              ? 'Give the device its code first'
              : null}
          hint={runs
            ? 'The engine holds a connection to this device already; many devices take only one at a time and close a second one.'
            : null}
        />
      {/if}
      <section class="panel p-4" aria-label="Both ends">
        <h2 class="mb-2">Both ends</h2>
        <table class="w-full text-[13px]">
          <thead
            ><tr class="text-left text-soft"
              ><th class="font-normal"></th><th class="font-normal">theirs, the device</th><th class="font-normal"
                >ours</th
              ></tr
            ></thead
          >
          <tbody>
            {#each ends as { what, ours, theirs, problem: clashes } (what)}
              <tr class="border-t border-rule align-top">
                <th class="py-1 pr-2 text-left font-normal text-soft">{what}</th>
                <td class="mono py-1 pr-2" class:text-alarm={clashes}>{theirs}</td>
                <td class="mono py-1" class:text-alarm={clashes}
                  >{ours}{#if clashes}<span class="block font-sans">{clashes}</span>{/if}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
        {#if !isNew}<p class="mt-2">
            <a class="word" href="/build/device/{code}/sheet">Sheet for the person at the device</a>
          </p>{/if}
      </section>
      <RequestPlan device={wanted.device} link={wanted.link} {points} />
    </div>
  {/if}
</form>
