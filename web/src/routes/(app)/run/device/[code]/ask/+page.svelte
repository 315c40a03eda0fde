<script lang="ts">
  import { valueAt, withValueAt } from '@halvix/core/config';
  import { definitionOf, deviceOf, FIRST_PROTOCOL } from '@halvix/core/protocols';
  import { onMount } from 'svelte';
  import { messageOf, post } from '$lib/ask.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import SettingInput from '$lib/components/build/SettingInput.svelte';
  import { capital, clockTime } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';

  /** What a device tells when it is asked, in tables; each row says what can be asked next. */
  let { data } = $props();
  const device = $derived(data.frame.devices.find(({ code }) => code === data.deviceCode));
  const definition = $derived(definitionOf(device?.protocol ?? FIRST_PROTOCOL));
  const role = $derived(deviceOf(device?.protocol ?? FIRST_PROTOCOL));
  const orders = $derived(role.orders);
  type Answer = NonNullable<NonNullable<typeof live.probe>['result']['answered']>;
  type FollowUp = Answer['tables'][number]['rows'][number]['asks'][number];

  /** What was asked so far that only asks, the last one open: the way back. */
  let way = $state.raw<{ words: string; order: Record<string, unknown> }[]>([]);
  let id = $state<string | null>(null);
  /** Whether what is under way changes the device: what is shown is asked for again behind it. */
  let changing = $state(false);
  let problem = $state<string | null>(null);
  let said = $state<string | null>(null);
  let answer = $state.raw<{ answer: Answer; at: number } | null>(null);
  /** The row whose question is being filled in. */
  let filled = $state.raw<{ key: string; ask: FollowUp; order: Record<string, unknown> } | null>(null);
  let filter = $state('');
  const probe = $derived(live.probe?.id === id ? live.probe : null);
  const isAsking = $derived(
    id !== null && (probe === null || probe.state === 'running' || probe.state === 'requested'),
  );

  onMount(() => {
    const first = orders.inquiry;
    if (first) void open(first.title, first.order as Record<string, unknown>);
    return () => live.watch({ probe: null });
  });
  $effect(() => {
    if (probe === null || (probe.state !== 'good' && probe.state !== 'bad')) return;
    const { problem: why, answered } = probe.result;
    problem = why;
    if (changing) {
      said = why === null ? (answered?.words ?? null) : null;
      changing = false;
      const last = way.at(-1);
      id = null;
      if (last) void send(last.order, true);
    } else if (answered && why === null) {
      answer = { answer: answered, at: Date.now() };
      id = null;
    } else id = null;
  });

  async function send(order: Record<string, unknown>, keep = false): Promise<boolean> {
    if (!keep) [problem, said] = [null, null];
    const next = crypto.randomUUID();
    const asked = await post('/api/probes', {
      id: next,
      request: { type: 'ask', device: data.deviceCode, order },
    }).catch(() => null);
    if (asked === null) problem = 'The server cannot be reached.';
    else if (!asked.ok) problem = await messageOf(asked);
    else {
      id = next;
      live.watch({ probe: next, points: [], trail: null, journal: false });
      return true;
    }
    return false;
  }

  async function open(words: string, order: Record<string, unknown>): Promise<void> {
    if (await send(order)) {
      const known = way.findIndex((one) => JSON.stringify(one.order) === JSON.stringify(order));
      way = known < 0 ? [...way, { words, order }] : way.slice(0, known + 1);
      filter = '';
    }
  }

  const changes = (order: unknown): boolean => orders.changes(order);
  async function carryOut(ask: FollowUp, order: Record<string, unknown>): Promise<void> {
    if (!changes(order)) {
      if (ask.fields.length > 0) filled = null;
      await open(orders.words(order), order);
      return;
    }
    if (await send(order)) {
      changing = true;
      filled = null;
    }
  }
  function begin(key: string, ask: FollowUp): void {
    // What changes the device has a second step.
    if (ask.fields.length === 0 && !changes(ask.order)) void carryOut(ask, ask.order);
    else filled = filled?.key === key ? null : { key, ask, order: ask.order };
  }
  /** What is wrong with what was filled in: beyond what the device has, or what it can be asked. */
  function invalid({ fields }: FollowUp, order: unknown): string | null {
    for (const { path, title, limits } of fields) {
      const value = valueAt(order, path);
      if (limits && !(typeof value === 'number' && value >= limits[0] && value <= limits[1]))
        return `${title}: ${limits[0]} to ${limits[1]}, not ${value === '' ? 'nothing' : String(value)}`;
    }
    const read = orders.schema.safeParse(order);
    return read.success ? null : (read.error.issues[0]?.message ?? null);
  }
  const tables = $derived(
    (answer?.answer.tables ?? []).map((table) => ({
      ...table,
      rows: table.rows
        .map((row, n) => ({ ...row, n }))
        .filter(
          ({ cells }) => filter === '' || cells.some((cell) => cell.toLowerCase().includes(filter.toLowerCase())),
        ),
    })),
  );
  const many = $derived((answer?.answer.tables ?? []).some(({ rows }) => rows.length > 12));
</script>

<svelte:head
  ><title>{orders.inquiry?.title ?? 'Questions'} · {device?.name ?? data.deviceCode} · Halvix</title></svelte:head
>

{#if device}
  <div class="flex grow flex-col gap-4 p-5">
    <div class="flex flex-wrap items-baseline gap-3">
      <h1>{orders.inquiry?.title ?? 'Questions'}</h1>
      <a class="word" href="/run/device/{device.code}">{device.name}</a>
      <span class="text-soft"
        >{definition.words.name}: we are the {definition.words.us}, it is the {definition.words.them}</span
      >
    </div>
    {#if orders.inquiry === null}
      <p class="text-soft">A device of this protocol has nothing of that kind.</p>
    {:else}
      <nav class="flex flex-wrap items-center gap-1" aria-label="What was asked">
        {#each way as { words, order }, n (n)}
          {#if n > 0}<span class="text-soft">›</span>{/if}
          {#if n === way.length - 1}<span aria-current="page">{n === 0 ? 'all' : words}</span>
          {:else}<button class="cursor-pointer text-accent underline" onclick={() => void open(words, order)}
              >{n === 0 ? 'all' : words}</button
            >{/if}
        {/each}
        <button
          class="button ml-3"
          disabled={isAsking || way.length === 0}
          onclick={() => way.length > 0 && void send(way[way.length - 1].order)}
          >{isAsking ? 'Asking …' : 'Ask again'}</button
        >
        {#if many}<input class="field" placeholder="Filter" aria-label="Filter" bind:value={filter} />{/if}
        {#if answer}<span class="text-soft"
            >told at {clockTime(answer.at, clock.now)}{answer.answer.words ? `: ${answer.answer.words}` : ''}</span
          >{/if}
      </nav>
      {#if problem}<p role="alert" class="text-alarm">{capital(problem)}</p>{/if}
      {#if said}<p role="status">{capital(said)}.</p>{/if}
      {#if answer === null && isAsking}<p class="text-soft">Asking the device …</p>{/if}
      {#each tables as { title, columns, rows }, t (title)}
        <section aria-label={title}>
          <h2 class="mb-2">{title}</h2>
          <div class="overflow-x-auto rounded border border-rule bg-panel">
            <table class="w-full text-[13px]">
              <thead>
                <tr class="border-b border-rule text-left text-[12px] text-soft">
                  {#each columns as column (column)}<th class="px-2.5 py-1.5 font-normal">{column}</th>{/each}
                  {#if rows.some(({ asks }) => asks.length > 0)}<th class="px-2.5 py-1.5 font-normal"
                      ><span class="sr-only">What can be asked</span></th
                    >{/if}
                </tr>
              </thead>
              <tbody>
                {#each rows as row (row.n)}
                  <tr class="border-b border-rule last:border-0">
                    {#each row.cells as cell, n (n)}<td class="mono px-2.5 py-1.5 align-top">{cell}</td>{/each}
                    {#if row.asks.length > 0}
                      <td class="px-2.5 py-1.5 text-right align-top whitespace-nowrap">
                        {#each row.asks as ask (ask.words)}
                          {@const key = `${t} ${row.n} ${ask.words}`}
                          <button
                            class="ml-3 cursor-pointer text-accent underline disabled:text-soft"
                            disabled={isAsking}
                            aria-expanded={ask.fields.length > 0 ? filled?.key === key : undefined}
                            onclick={() => begin(key, ask)}>{ask.words}</button
                          >
                        {/each}
                      </td>
                    {/if}
                  </tr>
                  {#if filled?.key.startsWith(`${t} ${row.n} `)}
                    {@const { ask, order } = filled}
                    {@const wrong = invalid(ask, order)}
                    <tr class="border-b border-rule bg-paper last:border-0">
                      <td colspan={columns.length + 1} class="px-2.5 py-2.5">
                        <form
                          class="flex flex-wrap items-end gap-3"
                          onsubmit={(event) => {
                            event.preventDefault();
                            if (wrong === null) void carryOut(ask, order);
                          }}
                        >
                          {#each ask.fields as field (field.path)}
                            <SettingInput
                              {field}
                              value={valueAt(order, field.path)}
                              change={(value) =>
                                filled && (filled = { ...filled, order: withValueAt(order, field.path, value) })}
                            />
                          {/each}
                          <button class="button first" disabled={wrong !== null || isAsking}
                            >{capital(wrong === null ? orders.words(order) : ask.words.replace('…', ''))}</button
                          >
                          <button class="button" type="button" onclick={() => (filled = null)}>Cancel</button>
                          {#if wrong}<span role="alert" class="text-alarm">{wrong}</span>
                          {:else if changes(order)}<span class="text-soft"
                              >it changes how the device works; who asked is written down</span
                            >{/if}
                        </form>
                      </td>
                    </tr>
                  {/if}
                {:else}
                  <tr
                    ><td colspan={columns.length + 1} class="px-2.5 py-2 text-soft"
                      >{filter === '' ? 'None.' : 'None of that name.'}</td
                    ></tr
                  >
                {/each}
              </tbody>
            </table>
          </div>
        </section>
      {/each}
    {/if}
  </div>
{/if}
