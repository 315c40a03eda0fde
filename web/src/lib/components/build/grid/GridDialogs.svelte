<script lang="ts" module>
  export type GridDialog = 'paste' | 'run' | 'replace' | 'rename' | 'many';
</script>

<script lang="ts">
  import type { DeviceObject } from '@halvix/core/config';
  import { pointField } from '@halvix/core/pointlist';
  import type { GridView } from '$lib/build/grid/gridview.svelte.ts';
  import type { GridWork } from '$lib/build/grid/gridwork.svelte.ts';
  import EditManyDialog from './EditManyDialog.svelte';
  import PasteDialog from './PasteDialog.svelte';
  import RenameDialog from './RenameDialog.svelte';
  import ReplaceDialog from './ReplaceDialog.svelte';
  import RunDialog from '../RunDialog.svelte';

  /** What asks before many points are changed or added. */
  interface Props {
    grid: GridView;
    work: GridWork;
    dialog: GridDialog | null;
    /** What was pasted, or the file that is to be read. */
    text: string;
    file: File | null;
    device: string | null;
    devices: DeviceObject[];
    /** Devices whose addresses are numbers. */
    numbered: DeviceObject[];
    complete: boolean;
    close: () => void;
  }
  let { grid, work, dialog, text, file, device, devices, numbered, complete, close }: Props = $props();

  /** Closes when it went well. */
  async function done(working: Promise<string | null>): Promise<string | null> {
    const words = await working;
    if (words === null) close();
    return words;
  }
  const context = $derived((code: string) => ({ station: grid.byCode.get(code)?.station ?? '', device: code }));
</script>

{#if dialog === 'paste'}
  <PasteDialog
    {text}
    {file}
    rows={grid.rows}
    {device}
    {devices}
    {complete}
    take={(changed, added) => done(work.takeOver('paste', changed, added))}
    {close}
  />
{:else if dialog === 'run'}
  <RunDialog
    {device}
    devices={numbered}
    {context}
    add={(label, added) => done(work.takeOver(label, [], added))}
    rows={grid.rows}
    {close}
  />
{:else if dialog === 'replace'}
  <ReplaceDialog rows={grid.worked()} change={(label, edits) => done(work.change(label, edits))} {close} />
{:else if dialog === 'rename'}
  <RenameDialog rows={grid.worked()} {context} change={(label, edits) => done(work.change(label, edits))} {close} />
{:else if dialog === 'many'}
  <EditManyDialog
    rows={grid.worked()}
    field={grid.activeColumn?.field?.key ?? pointField('unit').key}
    change={(label, edits) => done(work.change(label, edits))}
    {close}
  />
{/if}
