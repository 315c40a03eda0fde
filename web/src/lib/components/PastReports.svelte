<script lang="ts">
  import { SvelteMap } from 'svelte/reactivity';
  import { clockTime, fullTime } from '$lib/format.ts';
  import { clock } from '$lib/clock.svelte.ts';
  import { compared, type Marked } from '$lib/reports.ts';

  /** Messages that came lately: those that are marked stand side by side. A marked one stays, however many come. */
  interface Props {
    of: string;
    /** The newest first. */
    past: readonly Marked[];
  }
  let { of, past }: Props = $props();
  const marked = new SvelteMap<string, Marked>();
  let onlyChanged = $state(true);
  const toggle = (one: Marked): void => void (marked.delete(one.key) || marked.set(one.key, one));
  /** Those to choose from: while somebody chooses, and while some are marked, they stay as they are. */
  let held = $state.raw<readonly Marked[] | null>(null);
  const listed = $derived(held ?? past);
  /** Whether pointer or focus are among them. */
  const among = { pointer: false, focus: false };
  function hold(by: keyof typeof among): void {
    among[by] = true;
    held ??= past;
  }
  function letGo(by: keyof typeof among): void {
    among[by] = false;
    if (!among.pointer && !among.focus && marked.size === 0) held = null;
  }
  function newest(): void {
    marked.clear();
    held = null;
  }
  /** Until somebody marks some: the newest one and the one before. */
  const shown = $derived(compared(marked.size > 0 ? [...marked.values()] : listed.slice(0, 2)));
  const rows = $derived(onlyChanged ? shown.rows.filter(({ changed }) => changed.length > 0) : shown.rows);
</script>

<div class="flex flex-wrap items-start gap-5">
  <fieldset
    class="min-w-[210px]"
    onpointerenter={() => hold('pointer')}
    onpointerleave={() => letGo('pointer')}
    onfocusin={() => hold('focus')}
    onfocusout={(event) => {
      if (!event.currentTarget.contains(event.relatedTarget as Node | null)) letGo('focus');
    }}
  >
    <legend class="pb-1 text-soft">Mark those to compare</legend>
    {#each listed as one (one.key)}
      <label class="flex items-center gap-2 py-0.5">
        <input type="checkbox" checked={marked.has(one.key)} onchange={() => toggle(one)} />
        <span class="mono" title={fullTime(one.time)}>{clockTime(one.time, clock.now)}</span>
        <span class="text-soft">{one.words}</span>
      </label>
    {/each}
    <div class="flex gap-3 pt-1">
      <label class="flex items-center gap-2"
        ><input type="checkbox" bind:checked={onlyChanged} /> only what differs</label
      >
      {#if marked.size > 0}<button class="cursor-pointer text-accent underline" onclick={newest}
          >the newest again</button
        >{/if}
    </div>
  </fieldset>
  <div class="min-w-0 grow overflow-x-auto">
    {#if rows.length > 0}
      <table class="text-[12.5px]" aria-label="Reports of {of} side by side">
        <thead>
          <tr class="text-left text-soft">
            <th class="pr-4 pb-1 font-normal">Point</th>
            {#each shown.messages as { key, time } (key)}
              <th class="mono pr-4 pb-1 font-normal" title={fullTime(time)}>{clockTime(time, clock.now)}</th>
            {/each}
          </tr>
        </thead>
        <tbody>
          {#each rows as { name, values, changed } (name)}
            <tr>
              <td class="mono pr-4 align-top">{name}</td>
              {#each values as value, at (at)}
                <td
                  class="mono pr-4 align-top"
                  class:text-soft={value === null}
                  class:font-semibold={changed.includes(at)}
                  title={value === null
                    ? 'not in this one'
                    : changed.includes(at)
                      ? 'another value than before'
                      : undefined}
                  >{value ?? '–'}{#if changed.includes(at)}&nbsp;◂{/if}</td
                >
              {/each}
            </tr>
          {/each}
        </tbody>
      </table>
    {:else}
      <p class="text-soft">
        {shown.messages.length < 2 ? 'Mark at least two of them.' : 'Nothing differs between them.'}
      </p>
    {/if}
  </div>
</div>
