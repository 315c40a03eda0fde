<script lang="ts">
  import { sameDocument, valueAt, withValueAt, type SettingField } from '@halvix/core/config';
  import SettingInput from './SettingInput.svelte';

  /** The settings of one object: what has to be filled in is open, the rest folded at its defaults. */
  interface Props {
    fields: readonly SettingField[];
    document: object;
    defaults: object;
    problems: Readonly<Record<string, string>>;
    disabled?: boolean;
    choices?: Readonly<Record<string, readonly (readonly [string, string])[]>>;
    /** What fields are that nothing is typed into, by path. */
    placeholders?: Readonly<Record<string, string>>;
    change: (document: object) => void;
    /** The text of a field has been typed to its end. */
    done?: (path: string, text: string) => void;
  }
  let {
    fields,
    document,
    defaults,
    problems,
    disabled = false,
    choices = {},
    placeholders = {},
    change,
    done,
  }: Props = $props();
  const applying = $derived(fields.filter(({ applies }) => applies?.(document) ?? true));
  const open = $derived(applying.filter((field) => field.open));
  const folded = $derived(applying.filter((field) => !field.open));
  const differs = (field: SettingField): boolean =>
    !sameDocument(valueAt(document, field.path), valueAt(defaults, field.path));
  const changed = $derived(folded.filter(differs));
  const set = (field: SettingField, value: unknown): void => change(withValueAt(document, field.path, value));
  const wrong = $derived(folded.some((field) => problems[field.path] !== undefined));
  let unfolded = $state(false);
</script>

<div class="grid grid-cols-1 gap-x-4 gap-y-3 sm:grid-cols-2 xl:grid-cols-3">
  {#each open as field (field.path)}
    <SettingInput
      {field}
      {disabled}
      value={valueAt(document, field.path)}
      problem={problems[field.path]}
      choices={choices[field.path]}
      placeholder={placeholders[field.path]}
      change={(value) => set(field, value)}
      done={(text) => done?.(field.path, text)}
    />
  {/each}
</div>
{#if folded.length > 0}
  <details class="mt-3" open={unfolded || wrong} ontoggle={(e) => (unfolded = e.currentTarget.open)}>
    <summary class="cursor-pointer text-soft">
      {folded.length} more: {folded
        .slice(0, 3)
        .map(({ title }) => title.replace(/^[A-Z](?=[a-z ])/, (first) => first.toLowerCase()))
        .join(', ')} …
      {#if changed.length === 0}<span>all at their defaults</span>
      {:else}<b class="text-accent">{changed.length} not at {changed.length === 1 ? 'its default' : 'their defaults'}</b
        >{/if}
    </summary>
    <div class="mt-3 grid grid-cols-1 gap-x-4 gap-y-3 sm:grid-cols-2 xl:grid-cols-3">
      {#each folded as field (field.path)}
        <SettingInput
          {field}
          {disabled}
          value={valueAt(document, field.path)}
          fallback={valueAt(defaults, field.path)}
          problem={problems[field.path]}
          choices={choices[field.path]}
          change={(value) => set(field, value)}
        />
      {/each}
    </div>
  </details>
{/if}
