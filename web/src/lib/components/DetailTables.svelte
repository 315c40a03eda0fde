<script lang="ts">
  import type { DetailState } from '@halvix/core/path';
  import { SvelteSet } from 'svelte/reactivity';
  import { clock } from '$lib/clock.svelte.ts';
  import { age, clockTime, fullTime } from '$lib/format.ts';
  import PastReports from './PastReports.svelte';

  /** What a session knows beside its points, table by table. */
  let { tables: newest }: { tables: DetailState['tables'] } = $props();
  /** While somebody reads, they may stay as they are. */
  let held = $state.raw<{ tables: DetailState['tables']; at: number } | null>(null);
  const tables = $derived(held?.tables ?? newest);
  const open = new SvelteSet<string>();
  const toggle = (key: string): void => void (open.has(key) ? open.delete(key) : open.add(key));
  /** Numbers, with or without their unit, stand to the right. */
  const isNumber = (text: string): boolean => /^-?\d+(\.\d+)?( ms| s| %)?$/.test(text);
</script>

{#if newest.length > 0}
  <p class="flex items-center gap-2 text-[12.5px]">
    <button
      class="button"
      aria-pressed={held !== null}
      onclick={() => (held = held === null ? { tables: newest, at: clock.now } : null)}>Hold still</button
    >
    {#if held}<span class="text-soft">as it was at {clockTime(held.at, clock.now)}</span>{/if}
  </p>
{/if}
{#each tables as { key, title, columns, rows } (key)}
  <section aria-label={title} data-testid="details-{key}">
    <h2 class="mb-2">{title}</h2>
    <div class="overflow-x-auto rounded border border-rule bg-panel">
      <table class="w-full text-[13px]">
        <thead>
          <tr class="border-b border-rule text-left text-[12px] text-soft">
            {#each columns as column, n (column)}
              <th
                class="px-2.5 py-1.5 font-normal"
                class:text-right={n > 0 && rows.some(({ cells }) => isNumber(cells[n] ?? ''))}>{column}</th
              >
            {/each}
            {#if rows.some(({ time }) => time !== null)}<th class="px-2.5 py-1.5 text-right font-normal">When</th>{/if}
          </tr>
        </thead>
        <tbody>
          {#each rows as row (row.key)}
            <tr class="border-b border-rule last:border-0" data-testid="detail-{row.key}">
              {#each row.cells as cell, n (n)}
                <td
                  class="mono px-2.5 py-1.5 align-top"
                  class:text-right={n > 0 && isNumber(cell)}
                  class:text-alarm={row.odd.includes(n)}
                >
                  {#if n === 0 && ((row.more?.rows.length ?? 0) > 0 || row.past.length > 0)}
                    <button
                      class="cursor-pointer text-accent underline"
                      aria-expanded={open.has(row.key)}
                      onclick={() => toggle(row.key)}>{cell}</button
                    >
                  {:else}{cell}{/if}
                </td>
              {/each}
              {#if rows.some(({ time }) => time !== null)}
                <td
                  class="mono px-2.5 py-1.5 text-right align-top whitespace-nowrap text-soft"
                  title={row.time ? fullTime(row.time) : undefined}
                  >{row.time ? `${age(clock.now - row.time)} ago` : ''}</td
                >
              {/if}
            </tr>
            {#if open.has(row.key) && row.past.length > 1}
              <tr class="border-b border-rule last:border-0">
                <td colspan={columns.length + 1} class="px-6 py-2 text-[12.5px]">
                  <PastReports of={row.key} past={row.past} />
                </td>
              </tr>
            {:else if row.more && open.has(row.key)}
              <tr class="border-b border-rule last:border-0">
                <td colspan={columns.length + 1} class="px-6 py-2">
                  <table class="w-full text-[12.5px]" aria-label="{row.key}, the last one against the one before">
                    <thead>
                      <tr class="text-left text-soft">
                        {#each row.more.columns as column (column)}<th class="pr-3 pb-1 font-normal">{column}</th
                          >{/each}
                      </tr>
                    </thead>
                    <tbody>
                      {#each row.more.rows as cells, n (n)}
                        <tr>
                          {#each cells as cell, c (c)}<td class="mono pr-3 align-top" class:text-soft={c === 1}
                              >{cell}</td
                            >{/each}
                        </tr>
                      {/each}
                    </tbody>
                  </table>
                </td>
              </tr>
            {/if}
          {:else}
            <tr><td colspan={columns.length + 1} class="px-2.5 py-2 text-soft">None.</td></tr>
          {/each}
        </tbody>
      </table>
    </div>
  </section>
{/each}
