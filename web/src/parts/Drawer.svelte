<script lang="ts">
  import { X } from "@lucide/svelte";
  import { Dialog } from "bits-ui";
  import type { Snippet } from "svelte";

  interface Props {
    title: string;
    open: boolean;
    close: () => void;
    children: Snippet;
  }
  const { title, open, close, children }: Props = $props();
</script>

<Dialog.Root {open} onOpenChange={(now) => !now && close()}>
  <Dialog.Portal>
    <Dialog.Overlay class="bg-ink/25 fixed inset-0 z-10" />
    <Dialog.Content
      preventScroll={false}
      class="border-ink bg-sheet fixed inset-y-0 right-0 z-20 flex w-[34rem] max-w-full flex-col border-l-2"
    >
      <div class="border-line flex items-center border-b px-4 py-2">
        <Dialog.Title class="text-lg">{title}</Dialog.Title>
        <Dialog.Close class="button ml-auto" aria-label="Close"><X size={16} /></Dialog.Close>
      </div>
      <div class="min-h-0 flex-1 overflow-y-auto">{@render children()}</div>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
