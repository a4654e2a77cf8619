<script lang="ts">
  import { Dialog } from "bits-ui";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { complain, copiesOf, writer } from "../api/queries";

  interface Props {
    design: string;
    /** What is copied; empty: the dialog is closed. */
    id: string;
    name: string;
    close: () => void;
    done: (id: string) => void;
  }
  const { design, id, name, close, done }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  let count = $state(1);
  let pattern = $state("");
  $effect(() => {
    if (id) {
      count = 1;
      pattern = `${name} #`;
    }
  });
  let notes = $state<string[]>([]);
  async function copy(e: SubmitEvent): Promise<void> {
    e.preventDefault();
    try {
      const c = await copiesOf(design, { source: id, pattern, count });
      const words = count === 1 ? `Copy ${name}` : `Copy ${name} ${count} times`;
      if (await write.change(words, c.edits as never, true)) {
        notes = c.notes;
        done(c.made[0] ?? "");
      }
    } catch (error) {
      complain(error);
    }
  }
</script>

<Dialog.Root open={id !== ""} onOpenChange={(now) => !now && close()}>
  <Dialog.Portal>
    <Dialog.Overlay class="bg-ink/25 fixed inset-0 z-30" />
    <Dialog.Content
      preventScroll={false}
      class="border-ink bg-sheet fixed top-28 left-1/2 z-40 w-[30rem] max-w-[95vw] -translate-x-1/2 border-2"
    >
      <form class="flex flex-col gap-3 p-4" onsubmit={copy}>
        <Dialog.Title class="text-lg">More like {name}</Dialog.Title>
        <Dialog.Description class="text-soft text-sm"
          >With all that is inside and its links, on the next free ranges; what can not be renumbered keeps
          its range, and public addresses are given later.</Dialog.Description
        >
        <label class="label"
          >How many<input class="field" type="number" min="1" max="200" bind:value={count} /></label
        >
        <label class="label"
          >Called, with # for a number<input
            class="field"
            bind:value={pattern}
            maxlength="80"
            required
          /></label
        >
        <div class="flex gap-2">
          <button class="button button-main">Make {count === 1 ? "it" : `${count} of them`}</button>
          <button type="button" class="button" onclick={close}>Never mind</button>
        </div>
        {#if notes.length}<p class="text-soft text-sm">{notes.join("; ")}</p>{/if}
      </form>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
