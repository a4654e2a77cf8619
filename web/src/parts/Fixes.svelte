<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { useFixes, writer } from "../api/queries";
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
  const more = useFixes(
    () => design,
    () => finding.key,
    () => asked && Boolean(finding.more),
  );
  const fixes = $derived(more.data ?? finding.fixes);
</script>

{#if finding.group}
  <a class="button" href={placeURL(design, "plan", { group: finding.group })}>Plan what would work</a>
{:else}
  {#each fixes as fix (fix.title)}
    {#if shown === fix.title}
      <div class="border-line w-full border-l-4 pl-3">
        <RouteEffect {design} change={{ edits: fix.edits }} open />
      </div>
    {/if}
    <button
      class="button text-left whitespace-normal"
      onclick={() => write.change(fix.title.split(";")[0] ?? fix.title, fix.edits, true)}>{fix.title}</button
    >
    <button
      class="button text-soft"
      aria-pressed={shown === fix.title}
      title="Routes before and after: {fix.title}"
      onclick={() => (shown = shown === fix.title ? "" : fix.title)}>what it changes</button
    >
  {/each}
  {#if finding.more && !more.data}
    {#if more.error}<span class="text-clash" role="alert">{more.error.message}</span>
    {:else if asked}<span class="text-soft" role="status">Working fixes out…</span>
    {:else}<button class="button" onclick={() => (asked = true)}>Work out fixes</button>{/if}
  {:else if finding.more && fixes.length === 0}
    <span class="text-soft">No fix that Dravin can make helps here.</span>
  {/if}
{/if}
