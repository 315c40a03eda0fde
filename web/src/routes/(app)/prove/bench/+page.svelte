<script lang="ts">
  import { onMount } from 'svelte';
  import { messageOf } from '$lib/ask.ts';
  import BenchPlays from '$lib/components/BenchPlays.svelte';
  import { live } from '$lib/live/live.svelte.ts';

  let { data } = $props();
  const mayTurn = $derived(data.person.role !== 'viewer');

  interface Impairments {
    latencyMs: number;
    jitterMs: number;
    bitRate: number;
    bitsPerOctet: number;
    lostPerMillion: number;
    flippedPerMillion: number;
    droppedPercent: number;
    silence: boolean;
    cutEveryMs: number;
    outageEveryMs: number;
    outageForMs: number;
  }
  interface BenchLink {
    code: string;
    name: string;
    port: number;
    connected: boolean;
    problem: string | null;
    impairments: Impairments;
    counts: { lost: number; flipped: number; dropped: number; passed: number };
  }
  interface BenchDevice {
    code: string;
    name: string;
    link: string;
    address: number;
    on: boolean;
    connected: boolean;
    eventsWaiting: number;
    eventsDropped: number;
    clockOffsetMs: number;
    faults: { driftPpm: number; answerDelayMs: number };
    sleeps: boolean;
    /** Whether it has events and a clock of its own. */
    hasEvents: boolean;
    operations: number;
  }
  interface BenchCentre {
    code: string;
    name: string;
    on: boolean;
    connected: boolean;
    state: string;
  }

  let links = $state.raw<BenchLink[] | null>(null);
  let devices = $state.raw<BenchDevice[]>([]);
  let centres = $state.raw<BenchCentre[]>([]);
  let chosen = $state<string | null>(null);
  let plays = $state.raw<BenchDevice | null>(null);
  /** What is wrong with what was asked for: stays until something else is. */
  let problem = $state<string | null>(null);
  /** Why the bench cannot be looked at: looked at again by itself. */
  let away = $state<string | null>(null);
  /** The settings of the chosen link as they are typed, by name. */
  let typed = $state<Record<string, string>>({});
  const link = $derived(links?.find(({ code }) => code === chosen) ?? links?.[0] ?? null);

  const FIELDS: { key: keyof Impairments; title: string; unit: string; most: number }[] = [
    { key: 'latencyMs', title: 'Latency', unit: 'ms', most: 60_000 },
    { key: 'jitterMs', title: 'Jitter', unit: 'ms', most: 60_000 },
    { key: 'bitRate', title: 'Bit rate', unit: 'bit/s', most: 10_000_000 },
    { key: 'lostPerMillion', title: 'Octets lost', unit: 'ppm', most: 1_000_000 },
    { key: 'flippedPerMillion', title: 'Octets flipped', unit: 'ppm', most: 1_000_000 },
    { key: 'droppedPercent', title: 'Frames dropped', unit: '%', most: 100 },
    { key: 'cutEveryMs', title: 'Cut every', unit: 'ms', most: 86_400_000 },
    { key: 'outageEveryMs', title: 'Outage every', unit: 'ms', most: 86_400_000 },
    { key: 'outageForMs', title: 'Outage lasts', unit: 'ms', most: 86_400_000 },
  ];

  async function bench<Answer>(
    method: string,
    path: string,
    body?: unknown,
  ): Promise<{ ok: true; value: Answer } | { ok: false; words: string }> {
    const answer = await fetch(`/api/bench${path}`, {
      method,
      ...(body === undefined ? {} : { headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) }),
    }).catch(() => null);
    if (answer === null) return { ok: false, words: 'The server cannot be reached.' };
    if (!answer.ok) return { ok: false, words: await messageOf(answer) };
    return { ok: true, value: (await answer.json()) as Answer };
  }

  async function look(): Promise<void> {
    const [first, second, third] = await Promise.all([
      bench<BenchLink[]>('GET', '/links'),
      bench<BenchDevice[]>('GET', '/devices'),
      bench<BenchCentre[]>('GET', '/centres'),
    ]);
    away = first.ok ? null : first.words;
    if (first.ok) links = first.value;
    if (second.ok) devices = second.value;
    if (third.ok) centres = third.value;
  }
  async function act(method: string, path: string, body?: unknown): Promise<void> {
    const done = await bench(method, path, body);
    problem = done.ok ? null : done.words;
    if (done.ok) await look();
  }

  onMount(() => {
    live.watch({ points: [], trail: null, journal: false });
    void look();
    const timer = setInterval(() => document.visibilityState === 'visible' && void look(), 1000);
    return () => clearInterval(timer);
  });

  const impair = (change: Partial<Impairments>): Promise<void> =>
    link ? act('PUT', `/links/${link.code}/impairments`, { ...link.impairments, ...change }) : Promise.resolve();

  function set(key: keyof Impairments, title: string, most: number): void {
    const text = typed[key];
    if (text === undefined || link === null) return;
    const value = Number(text);
    if (text.trim() === '' || !Number.isFinite(value) || value < 0 || value > most) {
      problem = `${title}: ${text || 'nothing'} is not a number from 0 to ${most}`;
      return;
    }
    const { [key]: _done, ...rest } = typed;
    typed = rest;
    void impair({ [key]: value });
  }

  const wrong = ({ impairments: i }: BenchLink): string => {
    const words = [
      i.silence && 'silent',
      i.latencyMs + i.jitterMs > 0 && `${i.latencyMs}${i.jitterMs ? ` to ${i.latencyMs + i.jitterMs}` : ''} ms late`,
      i.bitRate > 0 && `${i.bitRate} bit/s`,
      i.lostPerMillion > 0 && 'loses octets',
      i.flippedPerMillion > 0 && 'flips bits',
      i.droppedPercent > 0 && `drops ${i.droppedPercent} %`,
      i.cutEveryMs > 0 && `cut every ${i.cutEveryMs / 1000} s`,
      i.outageEveryMs > 0 && `away ${i.outageForMs / 1000} s in ${i.outageEveryMs / 1000} s`,
    ].filter(Boolean);
    return words.length > 0 ? words.join(', ') : 'nothing wrong';
  };
</script>

<svelte:head><title>Bench · Halvix</title></svelte:head>

{#snippet action(words: string, method: string, device: BenchDevice, path: string, body?: unknown)}
  <button
    class="cursor-pointer text-accent underline"
    aria-label="{device.code}: {words}"
    onclick={() => void act(method, `/devices/${device.code}/${path}`, body)}>{words}</button
  >
{/snippet}
{#snippet fault(device: BenchDevice, key: keyof BenchDevice['faults'], title: string)}
  <label class="flex items-center gap-1.5"
    >{title}
    <input
      class="field mono h-[24px]! w-[64px]"
      inputmode="numeric"
      value={device.faults[key]}
      onchange={(e) =>
        void act('PUT', `/devices/${device.code}/faults`, { ...device.faults, [key]: Number(e.currentTarget.value) })}
    /></label
  >
{/snippet}

<div class="flex grow flex-col gap-3 p-5">
  <div class="flex flex-wrap items-baseline gap-3">
    <h1>Bench</h1>
    <span class="text-soft"
      >Stand-ins for devices and centres on real connections of this machine, and what is wrong with their links.</span
    >
    <span class="grow"></span>
    <a class="word" href="/prove">Record of controls</a>
  </div>
  {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
  {#if away}<p role="alert" class="text-alarm">
      {away} <button class="cursor-pointer text-accent underline" onclick={() => void look()}>Try again</button>
    </p>{/if}
  {#if links}
    <div class="grid grid-cols-1 gap-4 xl:grid-cols-[minmax(0,1.1fr)_minmax(0,1fr)]">
      <section class="flex min-w-0 flex-col gap-3">
        <h2 class="text-[15px] font-semibold">Links</h2>
        <div class="panel" role="listbox" aria-label="Links of the bench">
          {#each links as one (one.code)}
            <button
              role="option"
              aria-selected={link?.code === one.code}
              class="grid w-full grid-cols-[92px_minmax(0,1fr)_minmax(0,1.2fr)] items-center gap-3 border-b border-rule/70 px-3 py-1.5 text-left last:border-0 {link?.code ===
              one.code
                ? 'bg-chosen'
                : ''}"
              onclick={() => {
                chosen = one.code;
                typed = {};
              }}
            >
              <span class="mono">{one.code}</span>
              <span class="truncate {one.connected ? '' : 'text-soft'}"
                >{one.connected ? 'connected' : (one.problem ?? 'nobody connected')}</span
              >
              <span class="truncate {wrong(one) === 'nothing wrong' ? 'text-soft' : 'text-questionable'}"
                >{wrong(one)}</span
              >
            </button>
          {/each}
        </div>
        {#if link}
          <div class="panel flex flex-col gap-3 p-3" data-testid="impairments">
            <div class="flex flex-wrap items-center gap-2">
              <b class="min-w-0 grow basis-full truncate font-semibold"
                >{link.name} <span class="mono font-normal text-soft">port {link.port}</span></b
              >
              <span class="grow"></span>
              {#if mayTurn}
                <button
                  class="button"
                  aria-pressed={link.impairments.silence}
                  onclick={() => void impair({ silence: !link.impairments.silence })}>Silent</button
                >
                <button class="button" onclick={() => void act('POST', `/links/${link.code}/cut`)}>Cut now</button>
                <button class="button" onclick={() => void act('PUT', `/links/${link.code}/impairments`, {})}
                  >Nothing wrong</button
                >
              {/if}
            </div>
            <div class="grid grid-cols-2 gap-x-4 gap-y-2 sm:grid-cols-3">
              {#each FIELDS as { key, title, unit, most } (key)}
                <label class="flex flex-col gap-0.5 text-[12.5px]">
                  <span>{title}, {unit}</span>
                  <input
                    class="field mono"
                    inputmode="numeric"
                    disabled={!mayTurn}
                    value={typed[key] ?? String(link.impairments[key])}
                    oninput={(e) => (typed[key] = e.currentTarget.value)}
                    onchange={() => set(key, title, most)}
                  />
                </label>
              {/each}
            </div>
            <p class="text-[12.5px] text-soft">0 means: not at all, or unlimited.</p>
            <p class="mono text-[12px] text-soft">
              {link.counts.passed} octets passed, {link.counts.lost} lost, {link.counts.flipped} flipped, {link.counts
                .dropped} transmissions dropped
            </p>
          </div>
        {/if}
      </section>
      <section class="flex min-w-0 flex-col gap-3">
        <h2 class="text-[15px] font-semibold">Devices</h2>
        {#each devices as device (device.code)}
          <div class="panel flex flex-col gap-1.5 px-3 py-2" data-testid="bench-{device.code}">
            <div class="flex items-baseline gap-3">
              <span class="mono w-[60px] shrink-0">{device.code}</span>
              <span class="min-w-0 grow truncate {device.on ? '' : 'text-soft'}"
                >{device.name}{device.on ? '' : ', off'}</span
              >
              {#if device.on && device.hasEvents}
                <span class="mono text-soft">{device.eventsWaiting} waiting</span>
                {#if device.eventsDropped > 0}<span class="mono text-questionable">{device.eventsDropped} dropped</span
                  >{/if}
                <span class="mono {Math.abs(device.clockOffsetMs) > 1000 ? 'text-questionable' : 'text-soft'}"
                  >clock {device.clockOffsetMs >= 0 ? '+' : '−'}{Math.abs(device.clockOffsetMs)} ms</span
                >
              {/if}
            </div>
            {#if mayTurn}
              <div class="flex flex-wrap items-center gap-x-4 gap-y-1 text-[12.5px]">
                {@render action(device.on ? 'switch off' : 'switch on', 'PUT', device, 'power', { on: !device.on })}
                {#if device.on}
                  <button
                    class="cursor-pointer text-accent underline"
                    aria-label="{device.code}: play values"
                    onclick={() => (plays = device)}>play values…</button
                  >
                  {#if device.sleeps}{@render action('wake it', 'POST', device, 'wake')}{/if}
                  {#if device.hasEvents}
                    {@render action('reboot', 'POST', device, 'reboot')}
                    {@render action('fill its events', 'POST', device, 'fill')}
                    {@render action('clock 5 s ahead', 'PUT', device, 'clock', {
                      offsetMs: device.clockOffsetMs + 5000,
                    })}
                  {/if}
                  <span class="flex basis-full gap-x-4">
                    {#if device.hasEvents}{@render fault(device, 'driftPpm', 'clock drifts, ppm')}{/if}
                    {@render fault(device, 'answerDelayMs', 'answers late by, ms')}
                  </span>
                {/if}
              </div>
            {/if}
          </div>
        {/each}
        <h2 class="text-[15px] font-semibold">Centres</h2>
        {#each centres as centre (centre.code)}
          <div class="panel flex items-center gap-3 px-3 py-2">
            <span class="mono w-[64px]">{centre.code}</span>
            <span class="grow {centre.on ? '' : 'text-soft'}"
              >{centre.name}, {!centre.on
                ? 'off'
                : centre.connected
                  ? `connected, hears us ${centre.state}`
                  : 'not connected'}</span
            >
            {#if mayTurn}<button
                class="button"
                onclick={() => void act('PUT', `/centres/${centre.code}/power`, { on: !centre.on })}
                >{centre.on ? 'Switch off' : 'Switch on'}</button
              >{/if}
          </div>
        {/each}
      </section>
    </div>
  {:else if away === null}<p class="text-soft">Asking the bench …</p>
  {:else}<p class="max-w-[720px]">
      The bench is a program of its own. It comes with the demo; beside another system it is started by hand, and
      <span class="mono">HALVIX_BENCH_URL</span> tells this server where it is.
    </p>{/if}
</div>
{#if plays}<BenchPlays code={plays.code} name={plays.name} ask={bench} close={() => (plays = null)} />{/if}
