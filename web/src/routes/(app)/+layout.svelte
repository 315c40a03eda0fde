<script lang="ts">
  import { goto } from '$app/navigation';
  import { page } from '$app/state';
  import { onMount, untrack } from 'svelte';
  import { draft } from '$lib/build/draft.svelte.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import KeysHelp from '$lib/components/KeysHelp.svelte';
  import Logo from '$lib/components/Logo.svelte';
  import MiniStrip from '$lib/components/MiniStrip.svelte';
  import Search from '$lib/components/Search.svelte';
  import { age, capital, clockTime } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import { refresh } from '$lib/refresh.ts';
  import { devicePath, engineHop, isReached, type DevicePath } from '$lib/path.ts';

  let { data, children } = $props();
  let search = $state<ReturnType<typeof Search>>();
  let keysOpen = $state(false);
  let scheme = $state<'day' | 'night'>('day');
  let prefix = '';

  // svelte-ignore state_referenced_locally
  live.hops = data.hops;

  const WORKPLACES = [
    { href: '/build', title: 'Build' },
    { href: '/run', title: 'Run' },
    { href: '/prove', title: 'Prove' },
  ];

  onMount(() => {
    clock.set(data.now);
    const kept = localStorage.getItem('halvix-scheme');
    setScheme(
      kept === 'night' || (kept === null && matchMedia('(prefers-color-scheme: dark)').matches) ? 'night' : 'day',
    );
  });
  // Whoever has to set a password first is told nothing before.
  const isTold = $derived(!data.person.mustChange);
  $effect(() => {
    if (!isTold) return;
    live.open(untrack(() => data.hops));
    return () => live.close();
  });

  function setScheme(next: 'day' | 'night'): void {
    scheme = next;
    document.documentElement.dataset.scheme = next;
  }

  function toggleScheme(): void {
    setScheme(scheme === 'day' ? 'night' : 'day');
    localStorage.setItem('halvix-scheme', scheme);
  }

  // Another revision runs: what the pages know of the configuration is out of date.
  $effect(() => {
    const { revision } = live;
    if (revision !== null && revision !== untrack(() => data.frame.revision)) untrack(() => void refresh());
  });

  const engine = $derived(engineHop(live.hops, clock.now));
  const here = $derived(page.url.pathname);
  /** In Build the draft's stations, elsewhere those that run. */
  const building = $derived(here.startsWith('/build'));
  const stations = $derived(
    building && draft.version > 0
      ? draft
          .of('station')
          .map(({ document }) => document)
          .sort((a, b) => (a.code < b.code ? -1 : 1))
      : data.frame.stations,
  );
  const scopeHref = (code: string): string => {
    if (!building) return `/run?station=${code}`;
    return here === '/build/points' ? `/build/points?station=${code}` : `/build?station=${code}`;
  };
  const chosenStation = $derived(
    page.url.searchParams.get('station') ??
      data.frame.devices.find(({ code }) => page.params.code === code || page.data.deviceCode === code)?.station ??
      null,
  );

  /** The worst path of a station's devices stands for it. */
  function stationPath(code: string): DevicePath | null {
    const paths = data.frame.devices
      .filter((device) => device.station === code)
      .map((device) =>
        devicePath(
          device,
          data.frame.outbounds.filter((o) => device.outbounds.includes(o.code)),
          live.hops,
          clock.now,
        ),
      );
    return paths.find((path) => !isReached(path)) ?? paths[0] ?? null;
  }

  const GO: Record<string, string> = {
    b: '/run',
    d: '/build',
    p: '/build/points',
    m: '/build/mapping',
    x: '/build/changes',
    c: '/prove',
  };

  function onKey(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    if (event.ctrlKey || event.metaKey || event.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return;
    if (event.key === '/') {
      event.preventDefault();
      search?.focus();
    } else if (event.key === '?') keysOpen = true;
    else if (prefix === 'g' && GO[event.key]) void goto(GO[event.key]);
    prefix = event.key;
  }
</script>

<svelte:window onkeydown={onKey} />

<div class="flex h-full flex-col">
  <header class="flex min-h-12 shrink-0 flex-wrap items-center gap-x-6 gap-y-1 border-b border-rule bg-panel px-4">
    <a class="plain" href="/run" aria-label="Halvix, to the board"><Logo /></a>
    <nav class="flex min-h-12 gap-5 self-stretch" aria-label="Workplaces">
      {#each WORKPLACES as { href, title } (href)}
        <a
          {href}
          class="plain flex items-center border-b-2 font-medium {here.startsWith(href)
            ? 'border-accent'
            : 'border-transparent text-soft'}"
          aria-current={here.startsWith(href) ? 'page' : undefined}>{title}</a
        >
      {/each}
    </nav>
    <div class="order-last flex w-full min-w-0 justify-end pb-1 sm:order-none sm:w-auto sm:grow sm:pb-0">
      <Search bind:this={search} frame={data.frame} />
    </div>
    <span class="mono hidden text-soft sm:inline" title="The server's clock"
      >{clockTime(clock.now, clock.now, 0)} UTC</span
    >
    <button class="button hidden sm:inline-flex" onclick={toggleScheme}
      >{scheme === 'day' ? 'Night desk' : 'Day desk'}</button
    >
    <form method="POST" action="/sign-out" class="ml-auto flex items-center gap-2 sm:ml-0">
      <a
        class="word hidden sm:inline"
        href="/upkeep"
        title="Signed in as {data.person.role}: password, sessions, accounts, history">{data.person.name}</a
      >
      <button class="button" title="Sign out">Sign out</button>
    </form>
  </header>

  {#if live.lostSince !== null}
    <p role="alert" class="bg-lost px-4 py-1.5 text-ground" data-testid="connection-lost">
      No connection to the server for {age(clock.now - live.lostSince)}. What you see is as old as that. Trying again;
      it will catch up by itself.
    </p>
  {/if}

  {#if live.trouble}
    <p role="alert" class="bg-lost px-4 py-1.5 text-ground" data-testid="trouble">
      {live.trouble.words}, for {age(clock.now - live.trouble.since)}. What you see is as old as that; devices keep
      their events meanwhile.
    </p>
  {:else if isTold && engine.state === 'lost' && data.frame.devices.length > 0 && live.lostSince === null}
    <p role="alert" class="bg-lost px-4 py-1.5 text-ground" data-testid="engine-lost">
      {capital(engine.words)}: nothing is polled, passed on or operated.
    </p>
  {/if}

  <div class="flex min-h-0 grow">
    <nav class="hidden w-[212px] shrink-0 overflow-y-auto border-r border-rule py-3 md:block" aria-label="Stations">
      <h2 class="px-4 pb-2 text-[12.5px] text-soft">Stations</h2>
      <a
        class="plain flex h-[34px] items-center gap-3 px-4"
        class:bg-chosen={(here === '/run' || here === '/build') && chosenStation === null}
        href={building ? '/build' : '/run'}
      >
        <span class="mono w-8 shrink-0 text-soft">all</span><span class="truncate">{data.frame.network}</span>
      </a>
      {#each stations as { code, name } (code)}
        {@const path = stationPath(code)}
        <a
          class="plain flex h-[34px] items-center gap-3 px-4"
          class:bg-chosen={chosenStation === code}
          href={scopeHref(code)}
        >
          <span class="mono w-8 shrink-0 text-soft">{code}</span><span class="min-w-0 grow truncate">{name}</span>
          {#if path}<MiniStrip {path} />{/if}
        </a>
      {/each}
      {#if stations.length === 0}<p class="px-4 text-soft">None yet.</p>{/if}
    </nav>
    <main class="flex min-w-0 grow flex-col overflow-y-auto">{@render children()}</main>
  </div>
</div>
<KeysHelp bind:open={keysOpen} />
