<script lang="ts">
  import { definitionOf, deviceOf, FIRST_PROTOCOL } from '@halvix/core/protocols';
  import { onMount } from 'svelte';
  import DetailTables from '$lib/components/DetailTables.svelte';
  import { live } from '$lib/live/live.svelte.ts';

  /** What the session of a device knows beside its points, as it is now. */
  let { data } = $props();
  const device = $derived(data.frame.devices.find(({ code }) => code === data.deviceCode));
  const definition = $derived(definitionOf(device?.protocol ?? FIRST_PROTOCOL));
  const role = $derived(deviceOf(device?.protocol ?? FIRST_PROTOCOL));
  const tables = $derived(live.detail?.tables ?? []);
  const state_ = $derived(live.hops.devices[data.deviceCode]);
  onMount(() => {
    live.watch({ detail: data.deviceCode, points: [], trail: null, journal: false });
    return () => live.watch({ detail: null });
  });
</script>

<svelte:head><title>{role.details ?? 'Session'} · {device?.name ?? data.deviceCode} · Halvix</title></svelte:head>

{#if device}
  <div class="flex grow flex-col gap-4 p-5">
    <div class="flex items-baseline gap-3">
      <h1>{role.details ?? 'Session'}</h1>
      <a class="word" href="/run/device/{device.code}">{device.name}</a>
      <span class="text-soft"
        >{definition.words.name}: we are the {definition.words.us}, it is the {definition.words.them}</span
      >
    </div>
    {#if role.details === null}
      <p class="text-soft">A session of this protocol knows nothing beside its points and counters.</p>
    {:else if tables.length === 0}
      <p class="text-soft" data-testid="no-details">
        {#if state_ && state_.state !== 'answering'}Nothing now: {state_.words}.{:else}Asking the engine …{/if}
      </p>
    {/if}
    <DetailTables {tables} />
  </div>
{/if}
