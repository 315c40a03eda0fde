<script lang="ts">
  import type { DraftPoint } from '@halvix/core/config';
  import { rowWords, type PointRow } from '$lib/build/grid/grid.ts';
  import type { Result } from '@halvix/core/session';

  /** What an edit of many rows would do: before and after, and what does not go. */
  interface Props {
    edits: readonly { row: PointRow; result: Result<DraftPoint, string> }[];
    text: (point: DraftPoint) => string;
  }
  let { edits, text }: Props = $props();
  const wrong = $derived(edits.filter(({ result }) => !result.ok));
  const shown = $derived([...wrong, ...edits.filter(({ result }) => result.ok)].slice(0, 100));
</script>

<div class="panel max-h-[38vh] overflow-y-auto text-[13px]">
  <table class="w-full">
    <tbody>
      {#each shown as { row, result } (row.id)}
        <tr class="border-b border-rule">
          <td class="mono px-2 py-1 whitespace-nowrap text-soft">{rowWords(row)}</td>
          <td class="max-w-[220px] truncate px-2">{text(row.document)}</td>
          <td class="px-1 text-soft">→</td>
          <td class="max-w-[260px] truncate px-2" class:text-alarm={!result.ok}
            >{result.ok ? text(result.value) : result.problem}</td
          >
        </tr>
      {:else}
        <tr><td class="p-2 text-soft">Nothing changes.</td></tr>
      {/each}
    </tbody>
  </table>
</div>
{#if edits.length > shown.length}<p class="text-soft">the first {shown.length} of {edits.length}</p>{/if}
{#if wrong.length > 0}<p role="alert" class="text-alarm">
    {wrong.length} do not go: nothing is changed while one does not.
  </p>{/if}
