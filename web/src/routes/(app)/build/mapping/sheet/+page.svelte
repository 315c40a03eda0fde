<script lang="ts">
  import { definitionOf, wayOut } from '@halvix/core/protocols';
  import { csvOf } from '@halvix/core/pointlist';
  import { download, downloadWorkbook } from '$lib/build/forms.ts';

  let { data } = $props();
  const definition = $derived(definitionOf(data.outbound.protocol));
  const name = $derived(`halvix-map-${data.outbound.code}`);
  const [heading, rows] = $derived([data.rows[0], data.rows.slice(1)]);
</script>

<svelte:head><title>Map for {data.outbound.centre} · Halvix</title></svelte:head>

<div class="flex flex-col gap-3 p-5">
  <div class="flex flex-wrap items-center gap-2">
    <h1>Map for {data.outbound.centre}</h1>
    <span class="grow"></span>
    <span class="flex gap-2 print:hidden">
      <button
        class="button"
        onclick={() => download(`${name}.csv`, `\ufeff${csvOf(data.rows)}`, 'text/csv;charset=utf-8')}>CSV</button
      >
      <button class="button" onclick={() => void downloadWorkbook(`${name}.xlsx`, data.rows)}>XLSX</button>
      <button class="button" onclick={() => window.print()}>Print</button>
      <a class="button plain" href="/build/mapping?outbound={data.outbound.code}">Back</a>
    </span>
  </div>
  <p class="text-soft">
    {data.network}, as drafted. {definition.words.name}, {data.endpoint}; {wayOut(data.outbound.protocol)?.where(
      data.outbound.settings,
    )}. {rows.length} points. Value = number × gain + offset.
  </p>
  <div class="panel overflow-x-auto text-[12.5px]">
    <table class="w-full">
      <thead
        ><tr
          >{#each heading as title, i (i)}<th class="px-2 py-1.5 text-left font-normal text-soft">{title}</th
            >{/each}</tr
        ></thead
      >
      <tbody>
        {#each rows as row, i (i)}
          <tr class="border-t border-rule"
            >{#each row as text, c (c)}<td class="px-2 py-1" class:mono={[1, 5, 6, 9, 10].includes(c)}>{text}</td
              >{/each}</tr
          >
        {/each}
      </tbody>
    </table>
  </div>
</div>
