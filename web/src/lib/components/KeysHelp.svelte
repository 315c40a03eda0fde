<script lang="ts">
  import { Dialog } from 'bits-ui';

  let { open = $bindable(false) }: { open: boolean } = $props();
  const KEYS: [string, string][] = [
    ['/', 'search stations, devices, points, addresses'],
    ['?', 'this list'],
    ['g b', 'go to the board'],
    ['g d', 'go to stations and devices'],
    ['g p', 'go to the point lists'],
    ['g m', 'go to the mapping'],
    ['g x', 'go to the changes'],
    ['g c', 'go to the record of controls'],
    ['↑ ↓ PgUp PgDn Home End', 'move in a table'],
    ['Enter', 'open the marked row'],
    ['Ctrl C', 'copy the marked row, or all rows'],
    ['Ctrl Z, Ctrl Y', 'undo and redo in Build'],
    ['Ctrl D, Ctrl Shift D', 'fill down, series in the point grid'],
    ['F2 or typing', 'edit a cell of the point grid'],
    ['Esc', 'back out'],
  ];
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/30" />
    <Dialog.Content class="panel fixed top-[14vh] left-1/2 z-50 w-[440px] max-w-[94vw] -translate-x-1/2 p-5 shadow-xl">
      <Dialog.Title class="text-[17px] font-semibold">Keys</Dialog.Title>
      <dl class="mt-3 grid grid-cols-[auto_1fr] gap-x-5 gap-y-1.5">
        {#each KEYS as [key, words] (key)}
          <dt class="mono">{key}</dt>
          <dd>{words}</dd>
        {/each}
      </dl>
      <Dialog.Close class="button mt-4">Close</Dialog.Close>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
