<script lang="ts">
  import type { DraftPoint } from '@halvix/core/config';
  import { POINT_FIELDS, pointField } from '@halvix/core/pointlist';
  import { untrack } from 'svelte';
  import type { PointRow } from '$lib/build/grid/grid.ts';
  import EditPreview from './EditPreview.svelte';
  import Sheet from './Sheet.svelte';

  /** One field of many rows at once. */
  interface Props {
    rows: readonly PointRow[];
    field: string;
    change: (label: string, edits: { row: PointRow; document: DraftPoint }[]) => Promise<string | null>;
    close: () => void;
  }
  let { rows, field, change, close }: Props = $props();
  let key = $state(untrack(() => field));
  let text = $state('');
  let problem = $state<string | null>(null);
  const chosen = $derived(pointField(key));
  const edits = $derived(
    rows
      .map((row) => ({ row, result: chosen.set(row.document, text) }))
      .filter(({ row, result }) => !result.ok || chosen.text(result.value) !== chosen.text(row.document)),
  );
  const good = $derived(edits.flatMap(({ row, result }) => (result.ok ? [{ row, document: result.value }] : [])));
</script>

<Sheet title="Set a field in {rows.length} points" {close}>
  <form
    class="flex flex-col gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      void change(`set ${chosen.title.toLowerCase()}`, good).then((words) => (problem = words));
    }}
  >
    <div class="grid grid-cols-2 gap-3">
      <label class="flex flex-col gap-0.5"
        >Field
        <select class="field" bind:value={key}
          >{#each POINT_FIELDS as { key: one, title } (one)}<option value={one}>{title}</option>{/each}</select
        ></label
      >
      <label class="flex flex-col gap-0.5"
        >Value<input class="field" bind:value={text} list={chosen.choices ? `choices-${key}` : undefined} /></label
      >
    </div>
    <p class="text-soft">{chosen.help}</p>
    <EditPreview {edits} text={chosen.text} />
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="button" type="button" onclick={close}>Cancel</button>
      <button class="button first" disabled={good.length === 0 || good.length < edits.length}
        >Set in {good.length}</button
      >
    </div>
  </form>
</Sheet>
