<script lang="ts">
  import type { DraftPoint } from '@halvix/core/config';
  import { POINT_FIELDS, pointField, replaced } from '@halvix/core/pointlist';
  import type { PointRow } from '$lib/build/grid/grid.ts';
  import EditPreview from './EditPreview.svelte';
  import Sheet from './Sheet.svelte';

  interface Props {
    rows: readonly PointRow[];
    change: (label: string, edits: { row: PointRow; document: DraftPoint }[]) => Promise<string | null>;
    close: () => void;
  }
  let { rows, change, close }: Props = $props();
  let key = $state('name');
  let find = $state('');
  let replacement = $state('');
  let expression = $state(false);
  let matchCase = $state(false);
  let problem = $state<string | null>(null);
  const field = $derived(pointField(key));
  const result = $derived(
    find === ''
      ? null
      : replaced(
          rows.map(({ document }) => document),
          key,
          find,
          replacement,
          { expression, matchCase },
        ),
  );
  const edits = $derived(
    result?.ok ? result.value.flatMap((one, i) => (one === null ? [] : [{ row: rows[i], result: one }])) : [],
  );
  const good = $derived(edits.flatMap(({ row, result: one }) => (one.ok ? [{ row, document: one.value }] : [])));
</script>

<Sheet
  title="Find and replace in {rows.length} points"
  about="With an expression, $1 stands for its first group."
  {close}
>
  <form
    class="flex flex-col gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      void change('replace', good).then((words) => (problem = words));
    }}
  >
    <div class="grid grid-cols-3 gap-3">
      <label class="flex flex-col gap-0.5"
        >Field
        <select class="field" bind:value={key}
          >{#each POINT_FIELDS as { key: one, title } (one)}<option value={one}>{title}</option>{/each}</select
        ></label
      >
      <label class="flex flex-col gap-0.5">Find<input class="field mono" bind:value={find} /></label>
      <label class="flex flex-col gap-0.5">Replace by<input class="field mono" bind:value={replacement} /></label>
    </div>
    <div class="flex gap-4">
      <label class="flex items-center gap-2"
        ><input type="checkbox" bind:checked={expression} />regular expression</label
      >
      <label class="flex items-center gap-2"
        ><input type="checkbox" bind:checked={matchCase} />capital letters matter</label
      >
    </div>
    {#if result && !result.ok}<p role="alert" class="text-alarm">{result.problem}</p>{/if}
    <EditPreview {edits} text={field.text} />
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="button" type="button" onclick={close}>Cancel</button>
      <button class="button first" disabled={good.length === 0 || good.length < edits.length}
        >Replace in {good.length}</button
      >
    </div>
  </form>
</Sheet>
