<script lang="ts">
  import {
    misfitOf,
    OBJECT_SCHEMAS,
    sameDocument,
    valueAt,
    withValueAt,
    type MappingConfig,
  } from '@halvix/core/config';
  import { KIND_WORDS, targetKinds, type PointKind } from '@halvix/core/point';
  import { addressOf, targetsOf, type OutboundSettings } from '@halvix/core/protocols';
  import { draft, type Held } from '$lib/build/draft.svelte.ts';
  import type { PointRow } from '$lib/build/grid/grid.ts';
  import { untrack } from 'svelte';
  import SettingInput from '../SettingInput.svelte';
  import Sheet from '../grid/Sheet.svelte';

  /** One point at one centre: where it is offered there, and how. */
  interface Props {
    held: Held<MappingConfig>;
    /** Its source; null: it is not in the list. */
    point: PointRow | null;
    centre: string;
    close: () => void;
  }
  let { held, point, centre, close }: Props = $props();
  let document = $state.raw(untrack(() => held.document));
  let refused = $state<string | null>(null);
  const target = $derived(document.target);
  const targets = $derived(targetsOf(target.at.protocol));
  const settings = $derived(
    (draft.of('outbound').find(({ document: one }) => one.code === held.parent)?.document.settings ??
      null) as OutboundSettings | null,
  );
  /** Places that there are; null: any. */
  const places = $derived(
    settings === null
      ? null
      : (targets.places?.(settings, target.kind, point ? addressOf(point.document) : '') ?? null),
  );
  const placeAt = $derived(places?.findIndex(({ at }) => sameDocument(at, target.at)) ?? -1);
  const problem = $derived.by(() => {
    if (refused !== null) return refused;
    const parsed = OBJECT_SCHEMAS.mapping.safeParse(document);
    if (!parsed.success) return parsed.error.issues[0].message;
    const [wrong] = targets.problems(target, settings);
    if (wrong !== undefined) return wrong;
    return point ? (misfitOf(point.document, document)?.words ?? null) : null;
  });

  function retarget(change: Partial<MappingConfig['target']>): void {
    refused = null;
    document = { ...document, target: { ...target, ...change } };
  }
  function place(path: string, value: unknown): void {
    retarget({ at: withValueAt(target.at, path, value) });
  }

  async function save(): Promise<void> {
    const outcome = await draft.change(
      `change a mapping of ${held.parent}`,
      [{ id: held.id, kind: 'mapping', parent: held.parent, expected: held.version, document }],
      [held.document],
    );
    refused = outcome.ok ? null : outcome.words;
    if (outcome.ok) close();
  }
</script>

<Sheet title="{document.device} {document.point} → {centre}" about={point?.document.name ?? ''} {close}>
  <form
    class="grid grid-cols-2 gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      void save();
    }}
  >
    <label class="flex flex-col gap-0.5"
      >Kind there
      <select
        class="field"
        value={target.kind}
        onchange={(e) => retarget({ kind: e.currentTarget.value as PointKind })}
      >
        {#each targetKinds(point?.document.kind ?? target.kind) as one (one)}<option value={one}
            >{KIND_WORDS[one].one}</option
          >{/each}
      </select></label
    >
    {#if places}
      <label class="col-span-2 flex flex-col gap-0.5"
        >Place in the model
        <select
          class="field mono"
          value={String(placeAt)}
          onchange={(e) => {
            const place = places[Number(e.currentTarget.value)];
            if (place) retarget({ at: place.at });
          }}
        >
          {#if placeAt < 0}<option value="-1">none of them</option>{/if}
          {#each places as { words }, n (words)}<option value={String(n)}>{words}</option>{/each}
        </select></label
      >
    {/if}
    {#each targets.fields.filter(({ applies }) => applies?.(target) ?? true) as field (field.path)}
      <SettingInput {field} value={valueAt(target.at, field.path)} change={(value) => place(field.path, value)} />
    {/each}
    <label class="flex flex-col gap-0.5"
      >Value
      <select
        class="field"
        value={target.value}
        onchange={(e) => retarget({ value: e.currentTarget.value as 'raw' | 'engineering' })}
      >
        <option value="raw">raw</option><option value="engineering">in units</option>
      </select></label
    >
    <label class="flex flex-col gap-0.5"
      >Deadband, in what is handed on; empty: the point's own<input
        class="field mono"
        value={target.deadband ?? ''}
        oninput={(e) =>
          retarget({ deadband: e.currentTarget.value.trim() === '' ? null : Number(e.currentTarget.value) })}
      /></label
    >
    {#if problem}<p role="alert" class="col-span-2 text-alarm">{problem}</p>{/if}
    <div class="col-span-2 flex justify-end gap-2">
      <button class="button" type="button" onclick={close}>Cancel</button>
      <button class="button first">Save to the draft</button>
    </div>
  </form>
</Sheet>
