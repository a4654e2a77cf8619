<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { useMends, writer } from "../api/queries";
  import type { Finding } from "../api/client";
  import { placeURL } from "../lib/places";
  import RouteEffect from "./RouteEffect.svelte";

  interface Props {
    design: string;
    finding: Finding;
  }
  const { design, finding }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  let asked = $state(false);
  let shown = $state("");
  const more = useMends(
    () => design,
    () => finding.key,
    () => asked && Boolean(finding.more),
  );
  const mends = $derived(more.data ?? finding.mends);
</script>

{#if finding.group}
  <a class="button" href={placeURL(design, "translation", { group: finding.group })}>Compare remedies</a>
{:else}
  {#each mends as mend (mend.title)}
    {#if shown === mend.title}
      <div class="border-line w-full border-l-4 pl-3">
        <RouteEffect {design} change={{ edits: mend.edits }} open />
      </div>
    {/if}
    <button
      class="button text-left whitespace-normal"
      onclick={() => write.change(mend.title.split(";")[0] ?? mend.title, mend.edits)}>{mend.title}</button
    >
    <button
      class="button text-soft"
      aria-pressed={shown === mend.title}
      title="Routes before and after: {mend.title}"
      onclick={() => (shown = shown === mend.title ? "" : mend.title)}>what it changes</button
    >
  {/each}
  {#if finding.more && !more.data}
    {#if more.error}<span class="text-clash" role="alert">{more.error.message}</span>
    {:else if asked}<span class="text-soft" role="status">Working mends out…</span>
    {:else}<button class="button" onclick={() => (asked = true)}>Work out mends</button>{/if}
  {:else if finding.more && mends.length === 0}
    <span class="text-soft">No mend that Dravin can make helps here.</span>
  {/if}
{/if}
