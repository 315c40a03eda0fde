<script lang="ts">
  import { refresh } from '$lib/refresh.ts';
  import type { FileOrderRequest } from '@halvix/core/path';
  import { onMount } from 'svelte';
  import { messageOf, post } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import DataTable from '$lib/components/DataTable.svelte';
  import { age, clockTime, fullTime, grouped } from '$lib/format.ts';
  import type { Column } from '$lib/table.ts';
  import type { PageData } from './$types';

  /** The files of one device: what it says it has, and what was read from it and is kept here. */
  let { data } = $props();
  type Transfer = PageData['transfers'][number];
  /** With its place: a device may well give a name twice. */
  type Entry = NonNullable<Transfer['entries']>[number] & { place: number };

  const device = $derived(data.frame.devices.find(({ code }) => code === data.deviceCode));
  const mayAsk = $derived(data.person.role !== 'viewer');
  const mayDelete = $derived(data.person.role === 'engineer');
  /** The directory that is shown; empty: the uppermost. */
  let folder = $state('');
  let user = $state('');
  let password = $state('');
  let problem = $state<string | null>(null);
  let doomed = $state<string | null>(null);

  const isOpen = ({ state }: Transfer): boolean => state === 'requested' || state === 'running';
  const waiting = $derived(data.transfers.some(isOpen));
  const listing = $derived(data.transfers.find((one) => one.what === 'directory' && one.name === folder));
  const known = $derived(
    data.transfers.find((one) => one.what === 'directory' && one.name === folder && one.entries !== null),
  );
  const entries = $derived((known?.entries ?? []).map((entry, place): Entry => ({ ...entry, place })));
  const fetched = $derived(data.transfers.filter(({ what }) => what !== 'directory'));
  const pathOf = (entry: Entry): string => (folder === '' ? entry.name : `${folder}/${entry.name}`);
  const latestOf = (entry: Entry): Transfer | undefined =>
    fetched.find(({ what, name }) => what === 'readFile' && name === pathOf(entry));

  async function want(what: FileOrderRequest['what'], name: string): Promise<void> {
    const as = user === '' && password === '' ? {} : { as: { user, password } };
    const order: FileOrderRequest = { id: crypto.randomUUID(), device: data.deviceCode, what, name, ...as };
    const answer = await post('/api/files', order).catch(() => null);
    problem = answer === null ? 'The server cannot be reached.' : answer.ok ? null : await messageOf(answer);
    await refresh('halvix:files');
  }

  async function removeThere(): Promise<void> {
    const name = doomed;
    doomed = null;
    if (name === null) return;
    await want('deleteFile', name);
    if (problem === null) await want('directory', folder);
  }

  const octets = (n: number): string => `${grouped(n, 0)} octets`;
  const outcome = ({ state, words, octets: come, what }: Transfer): string => {
    if (state === 'requested') return 'waits for the engine';
    if (state === 'running') return what === 'readFile' && come > 0 ? `${octets(come)} so far` : 'under way';
    if (state === 'failed') return words ?? 'failed';
    return what === 'readFile' ? octets(come) : 'deleted there';
  };

  const entryColumns: Column<Entry>[] = [
    { key: 'name', title: 'In the device', width: 'minmax(180px,1fr)', mono: true, text: ({ name }) => name },
    {
      key: 'size',
      title: 'Size',
      width: '140px',
      align: 'right',
      mono: true,
      text: ({ size, isDirectory }) => (isDirectory ? `${size} files` : octets(size)),
      order: ({ size }) => size,
    },
    {
      key: 'time',
      title: 'Time there',
      width: '196px',
      align: 'right',
      mono: true,
      text: ({ time }) => clockTime(time, clock.now, 0),
      order: ({ time }) => time,
    },
    {
      key: 'here',
      title: 'Here',
      width: '220px',
      text: (entry) => {
        const latest = latestOf(entry);
        return latest === undefined ? '' : outcome(latest);
      },
    },
    { key: 'do', title: '', width: '190px', actions: true, text: () => '' },
  ];
  const fetchedColumns: Column<Transfer>[] = [
    {
      key: 'requested',
      title: 'Asked',
      width: '150px',
      mono: true,
      text: ({ requested }) => clockTime(requested, clock.now, 0),
      order: ({ requested }) => requested,
    },
    { key: 'by', title: 'By', width: '110px', text: ({ requestedBy }) => requestedBy },
    { key: 'name', title: 'File', width: 'minmax(160px,0.8fr)', mono: true, text: ({ name }) => name },
    { key: 'outcome', title: 'What came of it', width: 'minmax(200px,1fr)', text: outcome },
    { key: 'do', title: '', width: '120px', actions: true, text: () => '' },
  ];

  onMount(() => {
    let rounds = 0;
    const timer = setInterval(() => {
      if (document.visibilityState === 'visible' && (waiting || ++rounds % 5 === 0)) void refresh('halvix:files');
    }, 1000);
    return () => clearInterval(timer);
  });
</script>

<svelte:head><title>Files of {data.deviceCode} · Halvix</title></svelte:head>

{#if device}
  <div class="flex min-h-[620px] grow flex-col gap-3 p-5">
    <div class="flex flex-wrap items-baseline gap-3">
      <h1>Files of {device.name}</h1>
      <span class="text-soft"><a class="word" href="/run/device/{device.code}">{device.code}</a></span>
      <span class="grow"></span>
      {#if mayAsk}
        <details class="relative">
          <summary class="button cursor-pointer list-none">Name and password for the device…</summary>
          <div class="panel absolute right-0 z-20 mt-1 flex w-[320px] flex-col gap-2 p-3 shadow-lg">
            <label class="flex flex-col gap-1">User<input class="field" autocomplete="off" bind:value={user} /></label>
            <label class="flex flex-col gap-1"
              >Password<input class="field" type="password" autocomplete="off" bind:value={password} /></label
            >
            <p class="text-[12.5px] text-soft">
              Sent to the device with each request from this page, in clear, as the protocol has it; kept nowhere.
            </p>
          </div>
        </details>
        <button class="button first" onclick={() => void want('directory', folder)}>Read the directory</button>
      {/if}
    </div>
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    <p data-testid="directory-words">
      {#if folder !== ''}<button class="word cursor-pointer underline" onclick={() => (folder = '')}>uppermost</button>
        › <span class="mono">{folder}</span>.
      {/if}
      {#if listing === undefined}
        What the device has is not known here yet{mayAsk ? ': read its directory' : ''}.
      {:else if isOpen(listing)}Reading the directory …
      {:else if listing.state === 'failed'}<span class="text-alarm">The directory: {listing.words}.</span>
      {:else}As the device said {age(clock.now - (listing.ended ?? listing.requested))} ago.{/if}
    </p>
    {#if doomed !== null}
      <div
        class="flex flex-wrap items-center gap-3 border-l-4 border-alarm bg-ground p-3"
        role="group"
        aria-label="Delete a file"
      >
        <span>Delete <b class="mono">{doomed}</b> in the device? What is kept here stays.</span>
        <button class="button grave" onclick={() => void removeThere()}>Delete it there</button>
        <button class="button" onclick={() => (doomed = null)}>Keep it</button>
      </div>
    {/if}
    <DataTable
      name="Files in {device.code}"
      rows={entries}
      columns={entryColumns}
      rowKey={(entry) => entry.place}
      empty={known ? 'The device has no files.' : 'Nothing is known yet.'}
    >
      {#snippet cell(entry, column)}
        {@const latest = column.key === 'here' || column.key === 'do' ? latestOf(entry) : undefined}
        {#if column.key === 'do'}
          {#if entry.isDirectory}
            <button class="cursor-pointer text-accent underline" onclick={() => (folder = pathOf(entry))}>open</button>
          {:else}
            {#if mayAsk && !(latest && isOpen(latest))}
              <button
                class="cursor-pointer text-accent underline"
                aria-label="Fetch {entry.name}"
                onclick={() => void want('readFile', pathOf(entry))}>{latest ? 'fetch again' : 'fetch'}</button
              >
            {/if}
            {#if mayDelete}
              <button
                class="ml-3 cursor-pointer text-soft underline"
                aria-label="Delete {entry.name} there"
                onclick={() => (doomed = pathOf(entry))}>delete…</button
              >
            {/if}
          {/if}
        {:else if column.key === 'here' && latest?.state === 'done'}
          <a class="text-accent underline" href="/api/files/{latest.id}" download>save {outcome(latest)}</a>
        {:else if column.key === 'here'}<span class:text-alarm={latest?.state === 'failed'}>{column.text(entry)}</span>
        {:else if column.key === 'time'}<span title={fullTime(entry.time)}>{column.text(entry)}</span>
        {:else}{column.text(entry)}{/if}
      {/snippet}
    </DataTable>
    <h2 class="text-[15px] font-semibold">Asked for</h2>
    <DataTable
      name="Asked of {device.code}"
      rows={fetched}
      columns={fetchedColumns}
      rowKey={(row) => row.id}
      empty="No file has been asked for."
    >
      {#snippet cell(row, column)}
        {#if column.key === 'outcome'}<span class:text-alarm={row.state === 'failed'}>{outcome(row)}</span>
        {:else if column.key === 'do'}
          {#if row.what === 'readFile' && row.state === 'done'}
            <a class="text-accent underline" href="/api/files/{row.id}" aria-label="Save {row.name}" download>save</a>
          {/if}
        {:else}{column.text(row)}{/if}
      {/snippet}
    </DataTable>
  </div>
{/if}
