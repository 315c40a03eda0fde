<script lang="ts">
  import { Dialog } from 'bits-ui';
  import type { Snippet } from 'svelte';

  /** A dialog of the Build pages. */
  interface Props {
    title: string;
    about?: string;
    wide?: boolean;
    close: () => void;
    children: Snippet;
  }
  let { title, about, wide = false, close, children }: Props = $props();
</script>

<Dialog.Root open onOpenChange={(open) => !open && close()}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/30" />
    <Dialog.Content
      interactOutsideBehavior="ignore"
      preventScroll={false}
      class="panel fixed top-[6vh] left-1/2 z-50 flex max-h-[88vh] max-w-[96vw] -translate-x-1/2 flex-col gap-3 overflow-y-auto p-6 shadow-xl {wide
        ? 'w-[1080px]'
        : 'w-[620px]'}"
    >
      <div>
        <Dialog.Title class="text-[18px] font-semibold">{title}</Dialog.Title>
        <Dialog.Description class="text-soft">{about ?? ''}</Dialog.Description>
      </div>
      {@render children()}
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
