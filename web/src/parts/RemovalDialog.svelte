<script lang="ts">
  import { AlertDialog } from "bits-ui";
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { Removal } from "../api/client";
  import { complain, removalOf, writer } from "../api/queries";
  import RouteEffect from "./RouteEffect.svelte";
  import { kindWord } from "../lib/form";

  interface Props {
    design: string;
    /** What is to go; empty: the dialog is closed. */
    ids: string[];
    what: string;
    close: () => void;
    done: () => void;
  }
  const { design, ids, what, close, done }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  let removal = $state.raw<Removal>();
  const mine = $derived(removal?.goes.filter((g) => !ids.includes(g.id)) ?? []);
  const most = 30;

  $effect(() => {
    removal = undefined;
    if (!ids.length) return;
    const asked = ids;
    removalOf(design, asked)
      .then((r) => {
        if (asked !== ids) return;
        removal = r;
        // What nobody needs goes without a question; undo brings it back.
        if (r.goes.length === asked.length && r.changes.length === 0) void remove();
      })
      .catch((e: unknown) => {
        complain(e);
        close();
      });
  });
  async function remove(): Promise<void> {
    if (!removal) return;
    if (await write.change(`Remove ${what}`, removal.edits as never)) done();
    else close();
  }
</script>

<AlertDialog.Root
  open={ids.length > 0 && removal !== undefined && (mine.length > 0 || removal.changes.length > 0)}
  onOpenChange={(now) => !now && close()}
>
  <AlertDialog.Portal>
    <AlertDialog.Overlay class="bg-ink/25 fixed inset-0 z-30" />
    <AlertDialog.Content
      preventScroll={false}
      class="border-ink bg-sheet fixed top-20 left-1/2 z-40 flex max-h-[80vh] w-[36rem] max-w-[95vw] -translate-x-1/2 flex-col border-2"
    >
      <AlertDialog.Title class="border-line border-b px-4 py-2 text-lg">Remove {what}?</AlertDialog.Title>
      <AlertDialog.Description class="overflow-y-auto px-4 py-3 text-sm">
        {#if mine.length}
          <span class="mb-1 block">With it {mine.length === 1 ? "goes" : `go ${mine.length} things`}:</span>
          {#each mine.slice(0, most) as g (g.id)}
            <span class="block py-0.5"
              ><strong>{kindWord(g.kind)} {g.title}</strong> <span class="text-soft">{g.why}</span></span
            >
          {/each}
          {#if mine.length > most}<span class="text-soft block">and {mine.length - most} more</span>{/if}
        {/if}
        {#if removal?.changes.length}
          <span class="mt-2 mb-1 block">These stay, and change:</span>
          {#each removal.changes.slice(0, most) as c (c.id)}
            <span class="block py-0.5"
              ><strong>{kindWord(c.kind)} {c.title}</strong> <span class="text-soft">{c.why}</span></span
            >
          {/each}
        {/if}
        <span class="text-soft mt-2 block">Undo brings all of it back.</span>
      </AlertDialog.Description>
      {#if removal}
        <div class="border-line max-h-56 overflow-y-auto border-t px-4 py-2">
          <RouteEffect {design} change={{ edits: removal.edits as never }} />
        </div>
      {/if}
      <div class="border-line flex gap-2 border-t px-4 py-2">
        <AlertDialog.Action class="button button-main" onclick={remove}>Remove all of it</AlertDialog.Action>
        <AlertDialog.Cancel class="button">Keep it</AlertDialog.Cancel>
      </div>
    </AlertDialog.Content>
  </AlertDialog.Portal>
</AlertDialog.Root>
