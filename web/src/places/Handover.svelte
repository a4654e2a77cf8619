<script lang="ts">
  import { urlState } from "../lib/url.svelte";
  import Choice from "../parts/Choice.svelte";
  import FilesView from "../parts/FilesView.svelte";
  import ChangesView from "../parts/ChangesView.svelte";
  import RunbookView from "../parts/RunbookView.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const as = urlState("as");
  const views = [
    { key: "", word: "Files and sheets", title: "What each party gets" },
    {
      key: "changes",
      word: "Changes",
      title: "What is planned and not built, by who planned it and what for",
    },
    { key: "runbook", word: "Runbook", title: "The order of work from today to what is planned" },
  ] as const;
  const shown = $derived(views.find((v) => v.key === as.value)?.key ?? "");
</script>

<div class="flex h-full min-h-0 flex-col">
  <div class="border-line flex items-center gap-2 border-b px-3 py-1.5 print:hidden">
    <Choice label="What is handed over" options={views} value={shown} choose={(k) => (as.value = k)} />
    <span class="text-soft text-sm">{views.find((v) => v.key === shown)?.title}</span>
  </div>
  <div class="min-h-0 flex-1">
    {#if shown === "changes"}
      <ChangesView {design} />
    {:else if shown === "runbook"}
      <RunbookView {design} />
    {:else}
      <FilesView {design} />
    {/if}
  </div>
</div>
