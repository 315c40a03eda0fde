<script lang="ts">
  import { csvOf } from '@halvix/core/pointlist';
  import { invalidateAll } from '$app/navigation';
  import AgreementFile from '$lib/components/build/mapping/AgreementFile.svelte';
  import { download, downloadWorkbook } from '$lib/build/forms.ts';

  /** What we and one party have agreed on: both directions side by side, as a sheet that both sign. */
  let { data } = $props();
  const agreement = $derived(data.agreement);
  const name = $derived(`halvix-agreement-${data.code}`);
  const halves = $derived([
    {
      title: `We give ${agreement.party}`,
      terms: agreement.giving,
      rows: agreement.given,
      none: 'Nothing is mapped to them.',
    },
    {
      title: `${agreement.party} gives us`,
      terms: agreement.getting,
      rows: agreement.got,
      none: agreement.devices.length === 0 ? 'No device of ours is said to be theirs.' : 'The list of points is empty.',
    },
  ]);
  const MONO = ['Address'];
  let file = $state.raw<File | null>(null);
</script>

<svelte:head><title>Agreement with {agreement.party} · Halvix</title></svelte:head>

<div class="flex flex-col gap-3 p-5">
  <div class="flex flex-wrap items-center gap-2">
    <h1>Agreement with {agreement.party}</h1>
    <span class="grow"></span>
    <span class="flex gap-2 print:hidden">
      {#each agreement.devices as device (device)}
        <a class="button plain" href="/run/device/{device}"
          >{agreement.devices.length > 1 ? `${device} on line…` : 'What it is on line…'}</a
        >
      {/each}
      <button
        class="button"
        onclick={() => download(`${name}.csv`, `\ufeff${csvOf(data.table)}`, 'text/csv;charset=utf-8')}>CSV</button
      >
      <button class="button" onclick={() => void downloadWorkbook(`${name}.xlsx`, data.table)}>XLSX</button>
      <a class="button plain" href="/api/agreement/{data.code}" download>JSON</a>
      <button class="button" onclick={() => window.print()}>Print</button>
      <label class="button cursor-pointer"
        >Compare with a file…<input
          type="file"
          class="sr-only"
          accept=".json,.csv,.txt,.xlsx"
          onchange={(e) => {
            file = e.currentTarget.files?.[0] ?? null;
            e.currentTarget.value = '';
          }}
        /></label
      >
      <a class="button plain" href="/build/outbound/{data.code}">Back</a>
    </span>
  </div>
  <p class="text-soft">{data.network}, as drafted. {agreement.operating.join('; ')}.</p>
  <div class="grid grid-cols-1 items-start gap-4 xl:grid-cols-2 print:grid-cols-1">
    {#each halves as { title, terms, rows, none } (title)}
      <section class="panel flex min-w-0 flex-col gap-3 p-4" aria-label={title}>
        <h2>{title} <span class="font-normal text-soft">{rows.length - 1} points</span></h2>
        {#if terms.length > 0}
          <table class="w-full text-[12.5px]">
            <thead
              ><tr class="text-soft"
                ><th class="py-1 text-left font-normal">Term</th><th class="py-1 text-left font-normal">Us</th><th
                  class="py-1 text-left font-normal">{agreement.party}</th
                ></tr
              ></thead
            >
            <tbody>
              {#each terms as { what, ours, theirs, problem }, i (i)}
                <tr class="border-t border-rule"
                  ><th class="py-1 pr-3 text-left font-normal text-soft">{what}</th><td class="py-1 pr-3">{ours}</td><td
                    class="py-1"
                    >{theirs}{#if problem}
                      <span class="text-alarm">{problem}</span>{/if}</td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
        {/if}
        {#if rows.length < 2}<p class="text-soft">{none}</p>
        {:else}
          <div class="overflow-x-auto">
            <table class="w-full text-[12.5px]" aria-label="Points: {title}">
              <thead
                ><tr
                  >{#each rows[0] as heading, i (i)}<th class="px-2 py-1 text-left font-normal text-soft">{heading}</th
                    >{/each}</tr
                ></thead
              >
              <tbody>
                {#each rows.slice(1) as row, i (i)}
                  <tr class="border-t border-rule"
                    >{#each row as text, c (c)}<td class="px-2 py-1" class:mono={MONO.includes(rows[0][c])}>{text}</td
                      >{/each}</tr
                  >
                {/each}
              </tbody>
            </table>
          </div>
        {/if}
      </section>
    {/each}
  </div>
  <div class="grid grid-cols-2 gap-8 pt-6 text-[13px]" aria-label="Signatures">
    {#each [data.network, agreement.party] as party, i (i)}
      <div>
        <div class="h-10 border-b border-ink"></div>
        <p class="mt-1 text-soft">For {party}: name, date, signature</p>
      </div>
    {/each}
  </div>
</div>

{#if file}
  {#key file}
    <AgreementFile
      code={data.code}
      party={agreement.party}
      device={agreement.devices[0] ?? null}
      {file}
      mayBuild={data.person.role === 'engineer'}
      taken={() => void invalidateAll()}
      close={() => (file = null)}
    />
  {/key}
{/if}
