<script lang="ts">
  import { oneOf } from "../lib/form";
  import { side } from "../lib/side";

  interface Props {
    add: (kind: string) => void;
    bring: () => void;
  }
  const { add, bring }: Props = $props();
  const today = $derived(side() === "built");
</script>

<!-- The way on from an empty page. -->
<div class="mx-auto flex max-w-2xl flex-col gap-5 p-8">
  <h1 class="text-xl">Nothing here yet</h1>
  <p class="text-soft">
    {#if today}
      You are looking at <b>today</b>: nothing is built yet. What you say now is there already, and nobody has
      to make it; what is planned stands under <b>When built</b>.
    {:else}
      You are looking at <b>when built</b>: what you say is planned, and the runbook tells how to make it. To
      write down what is there already, switch to <b>Today</b> above first. What you bring in is there.
    {/if}
  </p>
  <section>
    <h2>Say it</h2>
    <p class="text-soft">
      Type in the line above what there is: it shows what it understood as you type, Tab completes a word,
      Enter does it, Ctrl-Z takes it back. Several lines may be pasted.
    </p>
  </section>
  <section>
    <h2>Or by hand</h2>
    <p class="text-soft mb-2">Begin with a place of your own, or with a network in a cloud.</p>
    <p class="flex flex-wrap gap-1.5">
      {#each ["site", "network", "hub", "edge-router", "outside"] as k (k)}
        <button class="button" onclick={() => add(k)}>Add {oneOf(k)}</button>
      {/each}
    </p>
  </section>
  <section>
    <h2>Or bring it in</h2>
    <p class="text-soft mb-2">
      A spreadsheet, router output, a list of prefixes, a design file; you see every line before it counts.
    </p>
    <button class="button" onclick={bring}>Bring in</button>
  </section>
</div>
