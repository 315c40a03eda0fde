<script lang="ts">
  import { differences, titleOf } from '@halvix/core/config';
  import { draft } from '$lib/build/draft.svelte.ts';
  import Sheet from './grid/Sheet.svelte';

  const held = $derived(draft.conflicts);
  const mine = (id: number): unknown => held?.changes.find((change) => change.id === id)?.document ?? null;

  /** Nothing is decided: what was typed stays where it was typed. */
  async function later(): Promise<void> {
    draft.conflicts = null;
    await draft.catchUp();
  }
</script>

{#if held}
  <Sheet
    title="Somebody else was faster"
    about="Nothing of “{held.label}” was changed. What stands there now, and what you wanted:"
    close={() => void later()}
  >
    <ul class="flex max-h-[50vh] flex-col gap-3 overflow-y-auto">
      {#each held.conflicts.slice(0, 50) as { id, kind, parent, author, document } (id)}
        {@const wanted = mine(id)}
        <li class="border-l-4 border-forced bg-ground p-3">
          <b>{titleOf(kind, parent, document ?? wanted ?? {})}</b>, changed by <b>{author}</b>
          {#if document === null}<p>It was deleted there.</p>
          {:else if wanted === null}<p>You wanted to delete it.</p>
          {:else}
            <ul class="list-inside list-disc">
              {#each differences(document, wanted, kind) as words (words)}<li class="mono">{words}</li>{/each}
            </ul>
            <p class="text-soft">left: what {author} wrote; right: what you wanted</p>
          {/if}
        </li>
      {/each}
    </ul>
    {#if held.conflicts.length > 50}<p class="text-soft">and {held.conflicts.length - 50} more</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="button first" onclick={() => void draft.yieldTo()}>Keep theirs</button>
      <button class="button" onclick={() => void draft.insist()}>Write mine over it</button>
    </div>
  </Sheet>
{/if}
