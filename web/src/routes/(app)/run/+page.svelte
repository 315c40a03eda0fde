<script lang="ts">
  import { onMount } from 'svelte';
  import { page } from '$app/state';
  import { clock } from '$lib/clock.svelte.ts';
  import Loom from '$lib/components/Loom.svelte';
  import PathStrip from '$lib/components/PathStrip.svelte';
  import { clockTime, fullTime } from '$lib/format.ts';
  import { live } from '$lib/live/live.svelte.ts';
  import { endingCertificates, endWords, standing } from '$lib/path.ts';

  let { data } = $props();
  const station = $derived(
    data.frame.stations.find(({ code }) => code === page.url.searchParams.get('station')) ?? null,
  );
  const devices = $derived(data.frame.devices.filter((d) => station === null || d.station === station.code));
  const outbounds = $derived(
    data.frame.outbounds.filter(({ code }) => station === null || devices.some((d) => d.outbounds.includes(code))),
  );
  const words = $derived(standing(devices, outbounds, live.hops, clock.now));
  const subjects = $derived(new Set([...devices.map(({ code }) => code), ...outbounds.map(({ code }) => code)]));
  const journal = $derived(
    (live.journal.length > 0 ? live.journal : data.journal)
      .filter(({ subject }) => station === null || subjects.has(subject))
      .slice(0, 12),
  );
  const certificates = $derived([
    ...(data.httpsEnds !== null && data.httpsEnds - clock.now < 30 * 86_400_000
      ? [{ link: null, ends: data.httpsEnds, words: endWords(data.httpsEnds, clock.now) }]
      : []),
    ...endingCertificates(live.hops, clock.now),
  ]);
  const MOST_CERTIFICATES = 5;
  const TONE = { plain: '', lost: 'text-lost', control: 'text-accent', warning: 'text-questionable' };

  onMount(() => {
    live.watch({ points: [], journal: true, trail: null });
    return () => live.watch({ journal: false });
  });
</script>

<svelte:head><title>{station?.name ?? 'Board'} · Halvix</title></svelte:head>

<div class="flex flex-col gap-5 p-5">
  <div>
    <h1>
      {station === null
        ? words.headline
        : `${station.name}: ${words.headline.charAt(0).toLowerCase()}${words.headline.slice(1)}`}
    </h1>
    {#if words.advice}
      <p class="mt-1 max-w-[900px]" data-testid="advice">
        {words.advice.before}<a class="word font-semibold" href={words.advice.href}>{words.advice.subject}</a>{words
          .advice.after}
      </p>
    {:else if data.frame.devices.length === 0}
      <p class="mt-1 max-w-[720px]">
        Nothing runs yet.
        {#if data.person.role === 'engineer'}Begin with <a class="word" href="/build/device/new">a device</a>: its
          station and its link are made along with it. Then its points, a centre that may see them, and apply.{:else}An
          engineer sets it up under Build.{/if}
      </p>
    {:else}
      <p class="mt-1 text-soft">Every path is alive, from the field on the left to the centres on the right.</p>
    {/if}
  </div>

  {#if station === null && certificates.length > 0}
    <section aria-label="Certificates that end soon">
      {#each certificates.slice(0, MOST_CERTIFICATES) as { link, ends, words: said } (link)}
        <p class="text-questionable" title={fullTime(ends)}>
          {#if link === null}The certificate of this web server {said}.{:else}A certificate of link
            <a class="word font-semibold" href="/run/link/{link}">{link}</a>
            {said}.{/if}
        </p>
      {/each}
      <p class="text-soft">
        {#if certificates.length > MOST_CERTIFICATES}So do those of {certificates.length - MOST_CERTIFICATES} more links.{/if}
        Put renewed files in the place of the old ones: they count from the next connection on.
      </p>
    </section>
  {/if}

  {#if devices.length > 0 || outbounds.length > 0}
    {#if station === null}
      <Loom {devices} {outbounds} />
    {:else}
      {#each devices as device (device.code)}
        <section aria-label={device.name}>
          <h2 class="mb-2">
            <a class="plain" href="/run/device/{device.code}"
              ><span class="mono text-soft">{device.code}</span> {device.name} ›</a
            >
          </h2>
          <PathStrip {device} outbounds={data.frame.outbounds.filter((o) => device.outbounds.includes(o.code))} />
        </section>
      {/each}
    {/if}
  {/if}

  <section aria-label="What happened last">
    {#each journal as line (line.id)}
      <div class="grid grid-cols-[104px_92px_1fr] gap-2 border-t border-rule py-[5px] text-[13px]">
        <span class="mono text-soft" title={fullTime(line.time)}>{clockTime(line.time, clock.now)}</span>
        <span class="font-medium">{line.subject}</span>
        <span class={TONE[line.tone]}>{line.words}</span>
      </div>
    {:else}
      <p class="border-t border-rule py-2 text-soft">Nothing has happened yet.</p>
    {/each}
  </section>
</div>
