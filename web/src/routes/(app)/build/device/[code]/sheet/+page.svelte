<script lang="ts">
  import { page } from '$app/state';
  import { csvOf } from '@halvix/core/pointlist';
  import { settingSheet } from '@halvix/core/config';
  import { draft } from '$lib/build/draft.svelte.ts';
  import { download } from '$lib/build/forms.ts';

  const code = $derived((page.params.code ?? '').toUpperCase());
  const device = $derived(draft.device(code)?.document);
  const link = $derived(draft.of('link').find(({ document }) => document.code === device?.link)?.document);
  const rows = $derived(device && link ? settingSheet(device, link) : []);
  let copied = $state(false);

  async function copy(): Promise<void> {
    await navigator.clipboard.writeText(rows.map((row) => row.join('\t')).join('\n'));
    copied = true;
  }
</script>

<svelte:head><title>Settings of {code} · Halvix</title></svelte:head>

<div class="flex max-w-[760px] flex-col gap-4 p-5">
  {#if device && link}
    <div class="flex flex-wrap items-center gap-2">
      <h1>What to set at {device.code} {device.name}</h1>
      <span class="grow"></span>
      <span class="flex gap-2 print:hidden">
        <button class="button" onclick={() => void copy()}>{copied ? 'Copied' : 'Copy'}</button>
        <button class="button" onclick={() => download(`${code}-settings.csv`, csvOf(rows), 'text/csv')}>CSV</button>
        <button class="button" onclick={() => window.print()}>Print</button>
        <a class="button plain" href="/build/device/{code}">Back</a>
      </span>
    </div>
    <p class="text-soft">Station {device.station}. The device is the outstation; our end is the master.</p>
    <table class="panel w-full">
      <tbody>
        {#each rows.slice(1) as [what, value] (what)}
          <tr class="border-t border-rule"
            ><th class="px-3 py-1.5 text-left font-normal">{what}</th><td class="mono px-3 py-1.5">{value}</td></tr
          >
        {/each}
      </tbody>
    </table>
  {:else}
    <h1>There is no device {code} with a link in the draft</h1>
  {/if}
</div>
