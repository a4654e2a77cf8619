<script lang="ts">
  import type { Comparison } from "../api/client";
  import { kindWord } from "../lib/form";
  import Drawer from "./Drawer.svelte";

  interface Props {
    of: { c: Comparison; a: string; b: string } | undefined;
    close: () => void;
  }
  const { of, close }: Props = $props();
  const parts = $derived(
    of
      ? [
          { word: "Not alike", list: of.c.changed },
          { word: `Only in ${of.a}`, list: of.c.here },
          { word: `Only in ${of.b}`, list: of.c.there },
        ]
      : [],
  );
  const most = 300;
</script>

<Drawer title={of ? `${of.a} and ${of.b}` : ""} open={of !== undefined} {close}>
  {#if of}
    <p class="px-4 py-3">
      {of.c.same} objects are alike, {of.c.changed.length} are not, {of.c.here.length} are only in the first and
      {of.c.there.length} only in the other.
    </p>
    {#each parts as part (part.word)}
      {#if part.list.length}
        <h3 class="border-line border-t px-4 pt-3">{part.word}: {part.list.length}</h3>
        {#each part.list.slice(0, most) as d (d.kind + d.path)}
          <p class="px-4 py-1 text-sm">
            <span class="text-soft">{kindWord(d.kind)}</span> <span class="font-mono">{d.path}</span>
            {#if part.word === "Not alike"}<span class="block pl-4">{d.text}</span>{/if}
          </p>
        {/each}
        {#if part.list.length > most}<p class="text-soft px-4">and {part.list.length - most} more</p>{/if}
      {/if}
    {/each}
  {/if}
</Drawer>
