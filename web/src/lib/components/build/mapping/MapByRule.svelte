<script lang="ts">
  import type { MappingConfig } from '@halvix/core/config';
  import { applyRule, type MappingRule, type MappingSource } from '@halvix/core/mapping';
  import { KIND_WORDS, POINT_KINDS, type PointKind } from '@halvix/core/point';
  import { addressOf, targetsOf, type OutboundSettings, type ProtocolCode } from '@halvix/core/protocols';
  import { draft } from '$lib/build/draft.svelte.ts';
  import SettingInput from '../SettingInput.svelte';
  import Sheet from '../grid/Sheet.svelte';

  /** Maps many points by one rule, with a preview. */
  interface Props {
    rule: MappingRule;
    outbound: { code: string; centre: string; protocol: ProtocolCode; settings: OutboundSettings };
    sources: readonly MappingSource[];
    /** What is mapped already. */
    mapped: readonly MappingConfig[];
    close: () => void;
  }
  let { rule = $bindable(), outbound, sources, mapped, close }: Props = $props();
  const centre = $derived(outbound.centre);
  const targets = $derived(targetsOf(outbound.protocol));
  const preview = $derived(applyRule(rule, outbound.protocol, sources, mapped, outbound.settings));
  /** What does not fit stands first. */
  const previewed = $derived(
    [
      ...preview.rows.filter(({ state }) => state === 'misfit'),
      ...preview.rows.filter(({ state }) => state !== 'misfit'),
    ].slice(0, 120),
  );
  let problem = $state<string | null>(null);

  async function carryOut(): Promise<void> {
    const made = preview.rows.flatMap(({ state, mapping }) => (state === 'new' && mapping ? [mapping] : []));
    const outcome = await draft.change(
      `map ${made.length} to ${outbound.code}`,
      made.map((document) => ({ id: null, kind: 'mapping', parent: outbound.code, expected: null, document })),
      [],
    );
    problem = outcome.ok ? null : outcome.words;
    if (outcome.ok) close();
  }
</script>

<Sheet
  wide
  title="Map to {centre} by rule"
  about="The rule is carried out once; the addresses that it gives stay as they are, so that nothing moves at the centre by itself. Carry it out again for points that come later."
  {close}
>
  <form
    class="flex flex-col gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      void carryOut();
    }}
  >
    <div class="grid gap-3 sm:grid-cols-4">
      <label class="col-span-2 flex flex-col gap-0.5"
        >Source: device and name like<input
          class="field"
          placeholder="HLM-F*, *current*; empty: all"
          bind:value={rule.pattern}
        /></label
      >
      <label class="flex flex-col gap-0.5"
        >Kind there
        <select class="field" bind:value={rule.targetKind}>
          <option value="same">as it is</option>
          {#each POINT_KINDS as one (one)}<option value={one}>{KIND_WORDS[one].one}</option>{/each}
        </select></label
      >
      <label class="flex flex-col gap-0.5"
        >Value
        <select class="field" bind:value={rule.value}>
          <option value="raw">raw, as the device has it</option>
          <option value="engineering">in units</option>
        </select></label
      >
      <label class="flex flex-col gap-0.5"
        >Address there
        <select class="field" bind:value={rule.numbering}>
          <option value="keep">as at the device, plus</option>
          <option value="series">the next free from</option>
        </select></label
      >
      <label class="flex flex-col gap-0.5"
        >{rule.numbering === 'keep' ? 'Plus' : 'From'}<input
          class="field mono"
          type="number"
          min="-65535"
          max="65535"
          bind:value={rule.start}
        /></label
      >
      {#each targets.ruleFields as field (field.path)}
        <SettingInput
          {field}
          value={rule.choices[field.path] ?? field.choices?.[0][0]}
          change={(value) => (rule.choices = { ...rule.choices, [field.path]: String(value) })}
        />
      {/each}
      <fieldset class="flex flex-wrap items-end gap-x-3">
        <legend class="text-soft">Only kinds</legend>
        {#each POINT_KINDS as one (one)}
          <label class="flex items-center gap-1"
            ><input
              type="checkbox"
              value={one}
              checked={rule.kinds.includes(one)}
              onchange={(e) =>
                (rule.kinds = e.currentTarget.checked
                  ? [...rule.kinds, one]
                  : rule.kinds.filter((kind: PointKind) => kind !== one))}
            />{KIND_WORDS[one].short}</label
          >
        {/each}
      </fieldset>
    </div>
    <p data-testid="rule-counts">
      <b>{preview.counts.new} new</b>, {preview.counts.mapped} mapped already,
      <span class:text-alarm={preview.counts.misfit > 0}>{preview.counts.misfit} do not fit</span>
    </p>
    <div class="panel max-h-[36vh] overflow-y-auto text-[13px]">
      <table class="w-full">
        <tbody>
          {#each previewed as row, i (i)}
            <tr
              class="border-b border-rule"
              class:text-soft={row.state === 'mapped'}
              class:text-alarm={row.state === 'misfit'}
            >
              <td class="mono px-2 py-1 whitespace-nowrap"
                >{row.source.device}
                {addressOf(row.source) || '–'}</td
              >
              <td class="px-2">{row.source.name}</td>
              <td class="mono px-2 whitespace-nowrap">{row.mapping ? `→ ${addressOf(row.mapping.target)}` : ''}</td>
              <td class="px-2" class:text-questionable={row.state === 'new' && row.words !== ''}>{row.words}</td>
            </tr>
          {:else}<tr><td class="p-2 text-soft">No point matches.</td></tr>{/each}
        </tbody>
      </table>
      {#if preview.rows.length > previewed.length}<p class="p-2 text-soft">
          the first {previewed.length} of {preview.rows.length}
        </p>{/if}
    </div>
    {#if problem}<p role="alert" class="text-alarm">{problem}</p>{/if}
    <div class="flex justify-end gap-2">
      <button class="button" type="button" onclick={close}>Cancel</button>
      <button class="button first" disabled={preview.counts.new === 0}>Map {preview.counts.new} points</button>
    </div>
  </form>
</Sheet>
