<script lang="ts">
  import { goto } from '$app/navigation';
  import { clock } from '../clock.svelte.ts';
  import { live } from '../live/live.svelte.ts';
  import { devicePath } from '../path.ts';
  import type { Frame } from '../server/frame.ts';
  import type { Found } from '../server/search.ts';
  import MiniStrip from './MiniStrip.svelte';

  let { frame }: { frame: Frame } = $props();
  let input = $state<HTMLInputElement>();
  let text = $state('');
  let found = $state.raw<Found[]>([]);
  let asked = $state('');
  let chosen = $state(0);
  let open = $state(false);
  let timer: ReturnType<typeof setTimeout> | undefined;

  export function focus(): void {
    input?.focus();
    input?.select();
  }

  function onInput(): void {
    clearTimeout(timer);
    timer = setTimeout(() => void look(), 100);
    open = true;
  }

  async function look(): Promise<void> {
    const query = text.trim();
    const answer = query === '' ? null : await fetch(`/api/search?q=${encodeURIComponent(query)}`).catch(() => null);
    if (query !== text.trim()) return;
    found = answer?.ok ? ((await answer.json()) as Found[]) : [];
    asked = query;
    chosen = 0;
  }

  function onKey(event: KeyboardEvent): void {
    if (event.key === 'ArrowDown') chosen = Math.min(found.length - 1, chosen + 1);
    else if (event.key === 'ArrowUp') chosen = Math.max(0, chosen - 1);
    else if (event.key === 'Enter' && found[chosen]) go(found[chosen]);
    else if (event.key === 'Escape') {
      open = false;
      input?.blur();
    } else return;
    event.preventDefault();
  }

  function go(one: Found): void {
    open = false;
    text = '';
    found = [];
    asked = '';
    input?.blur();
    void goto(one.href);
  }

  const pathOf = (code: string | null): ReturnType<typeof devicePath> | null => {
    const device = frame.devices.find((d) => d.code === code);
    return device ? devicePath(device, [], live.hops, clock.now) : null;
  };
</script>

<div class="relative w-full sm:max-w-[300px]">
  <input
    bind:this={input}
    bind:value={text}
    oninput={onInput}
    onkeydown={onKey}
    onfocus={() => (open = true)}
    onblur={() => setTimeout(() => (open = false), 150)}
    class="field w-full bg-ground pr-8"
    placeholder="station, point, address"
    aria-label="Search stations, devices, points and addresses"
    role="combobox"
    aria-expanded={open && found.length > 0}
    aria-controls="search-results"
    maxlength="100"
    spellcheck="false"
    autocomplete="off"
  />
  <kbd class="mono absolute top-1.5 right-2 rounded border border-rule px-1.5 text-soft">/</kbd>
  {#if open && asked !== ''}
    <ul
      id="search-results"
      role="listbox"
      class="panel absolute right-0 left-0 z-30 mt-1 max-h-[60vh] min-w-[320px] overflow-y-auto py-1 shadow-lg"
    >
      {#each found as one, i (one.href)}
        {@const path = pathOf(one.device)}
        <li role="option" aria-selected={i === chosen}>
          <a
            class="plain flex items-center gap-3 px-3 py-1.5"
            class:bg-chosen={i === chosen}
            href={one.href}
            onmouseenter={() => (chosen = i)}
          >
            <span class="min-w-0 flex-1 truncate">{one.title} <span class="text-soft">{one.detail}</span></span>
            {#if path}<MiniStrip {path} />{/if}
          </a>
        </li>
      {:else}
        <li class="px-3 py-1.5 text-soft">Nothing is called “{asked}”.</li>
      {/each}
    </ul>
  {/if}
</div>
