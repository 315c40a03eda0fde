<script lang="ts">
  import { sameDocument, storedNumber, type SettingField } from '@halvix/core/config';

  /** One setting: its title, unit and limit, a mark when it is not at its default, and a way back to it. */
  interface Props {
    field: SettingField;
    value: unknown;
    fallback?: unknown;
    problem?: string | undefined;
    disabled?: boolean;
    choices?: readonly (readonly [string | number, string])[];
    /** What it is when nothing is typed. */
    placeholder?: string | undefined;
    change: (value: unknown) => void;
    /** A text has been typed to its end. */
    done?: (text: string) => void;
  }
  let { field, value, fallback, problem, disabled = false, choices, placeholder, change, done }: Props = $props();
  const options = $derived(choices ?? field.choices);
  const isChanged = $derived(fallback !== undefined && !sameDocument(value, fallback));
  const limit = $derived(field.limits ? `${field.limits[0]} to ${field.limits[1]}` : '');
  const listed = (of: unknown): string =>
    Array.isArray(of) ? (of.length > 0 ? of.join(', ') : field.type === 'list' ? '' : 'none') : String(of ?? '');
  const shown = $derived(
    fallback === undefined
      ? ''
      : (options?.find(([key]) => key === fallback)?.[1] ??
          (fallback === true ? 'yes' : fallback === false ? 'no' : listed(fallback))),
  );

  /** `1, 2` → [1, 2]; what is no class stays for the check to name. */
  const classes = (text: string): unknown =>
    text
      .split(/[\s,]+/)
      .filter((part) => part !== '' && part !== 'none')
      .map(number);
  /** `10.1.0.0/16, 10.2.3.4` → a list; what does not fit stays for the check to name. */
  const list = (text: string): string[] => text.split(/[\s,;]+/).filter((part) => part !== '');
  const isList = $derived(field.type === 'classes' || field.type === 'list');
  const fileName = $derived(field.type === 'file' ? ((value as { name?: string } | null)?.name ?? '') : '');
  /** A secret is kept, and nobody sees which. */
  const isStored = $derived(field.type === 'secret' && storedNumber(value) !== null);
  /** The same file can be chosen again after it was changed. */
  async function take(input: HTMLInputElement): Promise<void> {
    const [file] = input.files ?? [];
    if (file) change({ name: file.name.slice(0, 200), text: await file.text() });
    input.value = '';
  }
  function number(text: string): unknown {
    return text.trim() === '' || !Number.isFinite(Number(text)) ? text : Number(text);
  }
</script>

<div class="flex flex-col gap-0.5">
  <!-- A label would name the button in it. -->
  <svelte:element this={fileName || isStored ? 'div' : 'label'} class="flex flex-col gap-0.5">
    <span class:text-accent={isChanged}
      >{field.title}{#if field.unit}, {field.unit}{/if}{#if isChanged}<b title="not at its default">&nbsp;•</b
        >{/if}</span
    >
    {#if field.type === 'boolean'}
      <select
        class="field"
        {disabled}
        value={value ? 'yes' : 'no'}
        onchange={(e) => change(e.currentTarget.value === 'yes')}
      >
        <option value="yes">yes</option><option value="no">no</option>
      </select>
    {:else if field.type === 'file'}
      {#if fileName}
        <span class="flex items-center gap-2">
          <span class="mono truncate" title={fileName}>{fileName}</span>
          <button class="button shrink-0" type="button" {disabled} onclick={() => change(null)}>Take it out</button>
        </span>
      {:else}
        <input
          class="min-w-0"
          type="file"
          {disabled}
          accept={field.extensions?.join(',')}
          onchange={(e) => void take(e.currentTarget)}
        />
      {/if}
    {:else if isStored}
      <span class="flex items-center gap-2">
        <span>is stored</span>
        <button
          class="button shrink-0"
          type="button"
          {disabled}
          aria-label="{field.title}: another or none"
          onclick={() => change('')}>Change</button
        >
      </span>
    {:else if field.type === 'secret'}
      <input
        class="field"
        type="password"
        autocomplete="new-password"
        {disabled}
        value={String(value ?? '')}
        aria-invalid={problem !== undefined}
        oninput={(e) => change(e.currentTarget.value)}
        onchange={(e) => done?.(e.currentTarget.value)}
      />
    {:else if options}
      <select
        class="field"
        {disabled}
        value={String(value)}
        onchange={(e) => change(options.find(([key]) => String(key) === e.currentTarget.value)?.[0])}
      >
        {#each options as [key, words] (key)}<option value={String(key)}>{words}</option>{/each}
      </select>
    {:else}
      <input
        class="field"
        class:mono={field.type === 'number' || field.type === 'list'}
        {disabled}
        inputmode={field.type === 'number' ? 'numeric' : undefined}
        value={listed(value)}
        {placeholder}
        aria-invalid={problem !== undefined}
        oninput={(e) => {
          if (!isList) change(field.type === 'number' ? number(e.currentTarget.value) : e.currentTarget.value);
        }}
        onchange={(e) => {
          done?.(e.currentTarget.value);
          if (isList) change((field.type === 'classes' ? classes : list)(e.currentTarget.value));
        }}
      />
    {/if}
  </svelte:element>
  {#if problem}<span role="alert" class="text-[12.5px] text-alarm">{problem}</span>
  {:else if isChanged && field.type !== 'file' && field.type !== 'secret'}
    <button
      class="self-start text-[12.5px] text-accent underline"
      {disabled}
      onclick={() => change(fallback)}
      type="button">back to {shown}{field.unit ? ` ${field.unit}` : ''}</button
    >
  {:else if field.help || limit}<span class="text-[12.5px] text-soft"
      >{[field.help, limit].filter(Boolean).join('; ')}</span
    >{/if}
</div>
