<script lang="ts">
  import { refresh } from '$lib/refresh.ts';
  import { page } from '$app/state';
  import { onMount, untrack } from 'svelte';
  import { draft, type Held } from '$lib/build/draft.svelte.ts';
  import ConflictDialog from '$lib/components/build/ConflictDialog.svelte';
  import { clock } from '$lib/clock.svelte.ts';
  import { age } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';

  let { data, children } = $props();
  let problem = $state<string | null>(null);

  // svelte-ignore state_referenced_locally
  draft.seed(data.draft.version, data.draft.objects as Held[], data.person.name);
  $effect(() => {
    const { version, objects } = data.draft;
    untrack(() => draft.seed(version, objects as Held[], data.person.name));
  });
  onMount(() => live.watch({ points: [], trail: null, journal: false }));

  // Somebody changed the draft: fetch what, and count anew.
  $effect(() => {
    const newest = live.draftVersion;
    if (newest <= untrack(() => draft.version)) return;
    untrack(() => void draft.catchUp());
  });
  let counted = untrack(() => data.draft.version);
  $effect(() => {
    const { version } = draft;
    if (version === counted) return;
    counted = version;
    const timer = setTimeout(() => void refresh('halvix:draft'), 300);
    return () => clearTimeout(timer);
  });

  const PAGES = [
    { href: '/build', title: 'Stations and devices' },
    { href: '/build/points', title: 'Points' },
    { href: '/build/mapping', title: 'Mapping' },
    { href: '/build/plan', title: 'Address plan' },
    { href: '/build/profiles', title: 'Profiles' },
    { href: '/build/changes', title: 'Changes' },
  ];
  const here = $derived(page.url.pathname);
  const isHere = (href: string): boolean =>
    href === '/build'
      ? here === '/build' || here.startsWith('/build/device') || here.startsWith('/build/outbound')
      : here.startsWith(href);
  const mayBuild = $derived(data.person.role === 'engineer');

  async function turn(back: boolean): Promise<void> {
    problem = back ? await draft.undo() : await draft.redo();
  }

  function onKey(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    if (!(event.ctrlKey || event.metaKey) || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return;
    const key = event.key.toLowerCase();
    if (key === 'z' || key === 'y') {
      event.preventDefault();
      void turn(key === 'z' && !event.shiftKey);
    }
  }

  /** What is on its way to the server would be changed, but could not be undone any more: the browser asks whoever leaves. */
  function onLeave(event: BeforeUnloadEvent): void {
    if (draft.saving > 0) event.preventDefault();
  }
</script>

<svelte:window onkeydown={onKey} onbeforeunload={onLeave} />

<div class="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule px-5 pt-1 print:hidden">
  <nav class="flex flex-wrap gap-x-4" aria-label="Build">
    {#each PAGES as { href, title } (href)}
      <a
        {href}
        class="plain flex h-9 items-center border-b-2 {isHere(href) ? 'border-accent' : 'border-transparent text-soft'}"
        aria-current={isHere(href) ? 'page' : undefined}>{title}</a
      >
    {/each}
  </nav>
  <span class="grow"></span>
  {#if problem}<span role="alert" class="text-alarm">{problem}</span>{/if}
  {#if draft.other && clock.now - draft.other.at < 60_000}
    <span class="text-soft" data-testid="other"
      >{draft.other.author} changed the draft {age(clock.now - draft.other.at)} ago</span
    >
  {/if}
  {#if mayBuild}
    {#if here !== '/build'}
      <a class="word" href="/build/device/new">Add a device</a>
      <a class="word" href="/build/outbound/new">Add a centre</a>
    {/if}
    <button
      class="button"
      disabled={draft.canUndo === null}
      title={draft.canUndo ? `Undo: ${draft.canUndo} (Ctrl Z)` : 'Nothing to undo'}
      onclick={() => void turn(true)}>Undo</button
    >
    <button
      class="button"
      disabled={draft.canRedo === null}
      title={draft.canRedo ? `Redo: ${draft.canRedo} (Ctrl Y)` : 'Nothing to redo'}
      onclick={() => void turn(false)}>Redo</button
    >
  {/if}
  <a class="button plain" href="/build/changes" data-testid="draft-state">
    {#if draft.saving > 0}Saving …
    {:else if data.draft.touched === 0}Draft: as it runs
    {:else}Draft: {data.draft.touched} touched, not applied ›{/if}
  </a>
</div>
{@render children()}
{#if draft.conflicts}<ConflictDialog />{/if}
