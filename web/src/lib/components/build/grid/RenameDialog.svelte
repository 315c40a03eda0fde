<script lang="ts">
  import type { DraftPoint } from '@halvix/core/config';
  import { renamed, type PatternContext } from '@halvix/core/pointlist';
  import type { PointRow } from '$lib/build/grid/grid.ts';
  import EditPreview from './EditPreview.svelte';
  import Sheet from './Sheet.svelte';

  interface Props {
    rows: readonly PointRow[];
    context: (device: string) => PatternContext;
    change: (label: string, edits: { row: PointRow; document: DraftPoint }[]) => Promise<string | null>;
    close: () => void;
  }
  let { rows, context, change, close }: Props = $props();
  let pattern = $state('{name}');
  let problem = $state<string | null>(null);
  const edits = $derived(
    renamed(
      rows.map(({ document }) => document),
      pattern,
      (i) => context(rows[i].parent),
    )
      .map((result, i) => ({ row: rows[i], result }))
      .filter(({ row, result }) => !result.ok || result.value.name !== row.document.name),
  );
  const good = $derived(edits.flatMap(({ row, result }) => (result.ok ? [{ row, document: result.value }] : [])));
</script>

<Sheet
  title="Rename {rows.length} points"
  about={'{name} is the name so far, {n} counts from 1, {index} the address, {station} and {device} the codes. The device in front of a name is stored once, with the device.'}
  {close}
>
  <form
    class="flex flex-col gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      void change('rename', good).then((words) => (problem = words));
    }}
  >
    <label class="flex flex-col gap-0.5">Pattern<input class="field" bind:value={pattern} /></label>
    <EditPreview {edits} text={({ name }) => name} />
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="button" type="button" onclick={close}>Cancel</button>
      <button class="button first" disabled={good.length === 0 || good.length < edits.length}
        >Rename {good.length}</button
      >
    </div>
  </form>
</Sheet>
