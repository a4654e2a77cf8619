<script lang="ts">
  import type { Remedy } from "../api/client";
  import RouteEffect from "./RouteEffect.svelte";

  interface Props {
    design: string;
    list: Remedy[];
    /** What is said where there is none. */
    none: string;
    apply: (r: Remedy) => void;
  }
  const { design, list, none, apply }: Props = $props();
  let shown = $state("");
</script>

<!-- Changes that were tried: each works, and breaks nothing that held. -->
<ul class="mt-2 flex flex-col gap-2" aria-label="Remedies">
  {#each list as r, n (n)}
    <li class="panel px-3 py-2">
      <p>{r.title}</p>
      <p class="text-soft text-sm">Tried: it works with this, and all intents that held hold.</p>
      <div class="mt-1 flex gap-1.5">
        <button class="button" onclick={() => apply(r)}>Make this change</button>
        <button
          class="button text-soft"
          aria-pressed={shown === r.title}
          onclick={() => (shown = shown === r.title ? "" : r.title)}>What it changes</button
        >
      </div>
      {#if shown === r.title}<div class="mt-2">
          <RouteEffect {design} change={{ edits: r.edits }} open />
        </div>{/if}
    </li>
  {:else}
    <li class="text-soft">{none}</li>
  {/each}
</ul>
