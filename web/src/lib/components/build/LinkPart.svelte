<script lang="ts">
  import type { SettingField } from '@halvix/core/config';
  import { hostAndPort } from '$lib/build/codes.ts';
  import { fittedLink, type LinkObject } from '$lib/build/devices.ts';
  import type { Held } from '$lib/build/draft.svelte.ts';
  import { sharingWords } from '$lib/build/links.ts';
  import SettingsForm from './SettingsForm.svelte';

  /** The link that something is on: one of the draft, or one of its own. */
  interface Props {
    /** Those that it may join. */
    links: readonly Held<LinkObject>[];
    /** Code of the one that it is on; empty: one of its own. */
    joins: string;
    link: LinkObject;
    fields: readonly SettingField[];
    defaults: LinkObject;
    /** Who else is on it. */
    neighbours: readonly string[];
    problems: Readonly<Record<string, string>>;
    disabled: boolean;
    /** It may be in the conversation of a device. */
    mayShare?: boolean;
    join: (code: string) => void;
    change: (link: LinkObject) => void;
  }
  let { links, joins, link, fields, defaults, neighbours, problems, disabled, mayShare, join, change }: Props =
    $props();
</script>

<section class="panel p-4" aria-label="Link">
  <div class="mb-3 flex flex-wrap items-center gap-3">
    <h2>Link</h2>
    {#if links.length > 0}
      <select class="field" aria-label="Line" {disabled} value={joins} onchange={(e) => join(e.currentTarget.value)}>
        <option value="">a link of its own</option>
        {#each links as { id, document } (id)}<option value={document.code}
            >{document.code} {(mayShare ? sharingWords(document) : null) ?? document.name}</option
          >{/each}
      </select>
    {/if}
    {#if neighbours.length > 0}<span class="text-soft" data-testid="neighbours"
        >shared with {neighbours.join(', ')}: what is changed here counts for them too</span
      >{/if}
  </div>
  <SettingsForm
    {fields}
    document={link}
    {defaults}
    {disabled}
    {problems}
    change={(next) => change(fittedLink(next as LinkObject, link))}
    done={(path, text) => {
      const both = path === 'host' ? hostAndPort(text) : null;
      if (both) change({ ...link, ...both });
    }}
  />
</section>
