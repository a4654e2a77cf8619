<script lang="ts">
  import { urlState } from "../lib/url.svelte";
  import Choice from "../parts/Choice.svelte";
  import DrillsView from "../parts/DrillsView.svelte";
  import IntentsView from "../parts/IntentsView.svelte";
  import MatrixView from "../parts/MatrixView.svelte";
  import RehearsalView from "../parts/RehearsalView.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const as = urlState("as");
  const views = [
    { key: "", word: "Walks", title: "One flow, there and back" },
    { key: "matrix", word: "Matrix", title: "Who reaches whom, against what is meant" },
    { key: "drills", word: "Drills", title: "What dies and what moves when something fails" },
    { key: "rehearsal", word: "Rehearsal", title: "The whole design run for real, against what is proven" },
  ] as const;
  const shown = $derived(views.find((v) => v.key === as.value)?.key ?? "");
</script>

<div class="flex h-full min-h-0 flex-col">
  <div class="border-line flex items-center gap-2 border-b px-3 py-1.5">
    <Choice label="What is proven" options={views} value={shown} choose={(k) => (as.value = k)} />
    <span class="text-soft text-sm">{views.find((v) => v.key === shown)?.title}</span>
  </div>
  <div class="min-h-0 flex-1">
    {#if shown === "matrix"}
      <MatrixView {design} />
    {:else if shown === "drills"}
      <DrillsView {design} />
    {:else if shown === "rehearsal"}
      <RehearsalView {design} />
    {:else}
      <IntentsView {design} />
    {/if}
  </div>
</div>
