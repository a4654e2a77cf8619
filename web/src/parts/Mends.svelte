<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { writer } from "../api/queries";
  import type { Finding } from "../api/client";
  import { placeURL } from "../lib/places";

  interface Props {
    design: string;
    finding: Finding;
  }
  const { design, finding }: Props = $props();
  const write = writer(useQueryClient(), () => design);
</script>

{#if finding.group}
  <a class="button" href={placeURL(design, "translation", { group: finding.group })}>Compare remedies</a>
{:else}
  {#each finding.mends as mend (mend.title)}
    <button
      class="button text-left whitespace-normal"
      onclick={() => write.change(mend.title.split(";")[0] ?? mend.title, mend.edits)}>{mend.title}</button
    >
  {/each}
{/if}
