<script lang="ts">
  import { Dialog } from 'bits-ui';

  let { device, close, restart }: { device: string; close: () => void; restart: (how: 'cold' | 'warm') => void } =
    $props();
</script>

<Dialog.Root open onOpenChange={(open) => !open && close()}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/30" />
    <Dialog.Content class="panel fixed top-[18vh] left-1/2 z-50 w-[460px] max-w-[94vw] -translate-x-1/2 p-5 shadow-xl">
      <Dialog.Title class="text-[17px] font-semibold">Restart {device}</Dialog.Title>
      <p class="mt-2">
        The device is away until it is up again, and events that it has not handed over may be lost. Cold: as if its
        power had been switched off and on. Warm: only its communication begins anew.
      </p>
      <div class="mt-4 flex gap-2">
        <button class="button" onclick={() => restart('warm')}>Restart warm</button>
        <button class="button" onclick={() => restart('cold')}>Restart cold</button>
        <span class="grow"></span>
        <Dialog.Close class="button">Leave it running</Dialog.Close>
      </div>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
