<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { Keyboard, Redo2, Search, Undo2 } from "@lucide/svelte";
  import type { Snippet } from "svelte";
  import { watchDesign } from "./api/live.svelte";
  import { useDesign, writer } from "./api/queries";
  import { places, placeURL } from "./lib/places";
  import { side, sideState } from "./lib/side";
  import { working, workOn } from "./lib/working.svelte";
  import { urlState } from "./lib/url.svelte";
  import Choice from "./parts/Choice.svelte";
  import FindingsDrawer from "./parts/FindingsDrawer.svelte";
  import KeyList from "./parts/KeyList.svelte";
  import Palette from "./parts/Palette.svelte";
  import { goTo, p, route } from "./router";

  interface Props {
    children: Snippet;
  }
  const { children }: Props = $props();

  const design = $derived(String(route.params.design ?? ""));
  const place = $derived(route.pathname.split("/")[3] ?? "");

  const queries = useQueryClient();
  watchDesign(queries, () => design);
  const design_ = useDesign(() => design);
  const write = writer(queries, () => design);
  const panel = urlState("panel");
  const when = sideState();
  const sides = [
    {
      key: "",
      word: "When built",
      title: "What is planned, as if all of it were built; what you change is the plan (t)",
    },
    { key: "today", word: "Today", title: "What is built; what you change says what is there (t)" },
  ];

  const state = $derived(design_.data);
  const broken = $derived(state?.findings.broken ?? 0);
  const risks = $derived(state?.findings.risk ?? 0);
  const untidy = $derived(state?.findings.untidy ?? 0);
  $effect(() => {
    document.title = state ? `${state.name} - Dravin` : "Dravin";
  });

  const undo = () => state?.undo && void write.undo();
  const redo = () => state?.redo && void write.redo();

  function onkeydown(e: KeyboardEvent): void {
    const typing =
      e.target instanceof HTMLElement && e.target.closest("input, textarea, select, [contenteditable]");
    const command = e.ctrlKey || e.metaKey;
    if (command && e.key.toLowerCase() === "k") {
      e.preventDefault();
      panel.value = panel.value === "palette" ? "" : "palette";
    } else if (typing || panel.value) {
      return;
    } else if (command && e.key.toLowerCase() === "z") {
      e.preventDefault();
      if (e.shiftKey) redo();
      else undo();
    } else if (command && e.key.toLowerCase() === "y") {
      e.preventDefault();
      redo();
    } else if (!command && !e.altKey) {
      if (e.key === "?") panel.value = "keys";
      if (e.key === "f") panel.value = "findings";
      if (e.key === "t") when.value = side() === "built" ? "" : "today";
      const to = places.find((x) => x.key === e.key);
      if (to) goTo(design, to.path);
    }
  }
</script>

<svelte:window {onkeydown} />

<header class="border-ink bg-sheet flex items-stretch border-b-2 pl-4">
  <a
    href={p("/")}
    class="text-ink flex shrink-0 items-center gap-2 pr-4 font-semibold no-underline"
    title="{state?.name ?? ''}: all designs"
  >
    <img src="/mark.svg" alt="" class="h-5 w-5" />Dravin
  </a>
  <span
    class="hidden max-w-72 min-w-0 shrink truncate self-center pr-4 min-[1180px]:block"
    title={state?.name}>{state?.name ?? ""}</span
  >
  <nav class="flex" aria-label="Places">
    {#each places as x (x.path)}
      <a
        href={placeURL(design, x.path)}
        class="flex items-center px-1.5 py-2 no-underline min-[1200px]:px-2.5 {x.path === place
          ? 'border-ink bg-paper text-ink border-x font-semibold'
          : 'text-soft hover:text-ink'}"
        aria-current={x.path === place ? "page" : undefined}>{x.name}</a
      >
    {/each}
  </nav>
  <div class="ml-auto flex items-center gap-1.5 pr-3">
    <Choice
      label="For when"
      options={sides}
      value={side() === "built" ? "today" : ""}
      choose={(key) => (when.value = key)}
    />
    <button
      class="button {broken ? 'border-clash text-clash' : ''}"
      onclick={() => (panel.value = "findings")}
      title="Findings (f)"
    >
      {#if !state}
        {design_.error ? "Findings not known" : "Looking…"}
      {:else}
        {#if design_.error}<span class="text-warn">out of date:</span>{/if}
        {#if broken + risks > 0}
          {[broken && `${broken} broken`, risks && `${risks} at risk`].filter(Boolean).join(", ")}
        {:else if untidy > 0}
          {untidy} untidy
        {:else}
          Nothing wrong
        {/if}
      {/if}
    </button>
    <button
      class="button"
      onclick={undo}
      disabled={!state?.undo}
      title={state?.undo ? `Undo: ${state.undo} (Ctrl-Z)` : "Nothing to undo"}
      aria-label="Undo"
    >
      <Undo2 size={16} />
    </button>
    <button
      class="button"
      onclick={redo}
      disabled={!state?.redo}
      title={state?.redo ? `Redo: ${state.redo} (Ctrl-Shift-Z)` : "Nothing to redo"}
      aria-label="Redo"
    >
      <Redo2 size={16} />
    </button>
    <button class="button" onclick={() => (panel.value = "palette")} title="Find anything (Ctrl-K)">
      <Search size={16} />Find
      <kbd class="text-soft hidden font-mono text-xs min-[1400px]:inline">Ctrl-K</kbd>
    </button>
    <button class="button" onclick={() => (panel.value = "keys")} title="Keys (?)" aria-label="Keys"
      ><Keyboard size={16} /></button
    >
  </div>
</header>
{#if working(design)}
  <p class="bg-mark border-line border-b px-4 py-1 text-sm print:hidden" role="status">
    What you change is part of <span class="font-semibold">{working(design)?.title}</span>.
    <button class="button ml-2" onclick={() => workOn(design, undefined)}>Stop working on it</button>
  </p>
{/if}

{#if design_.error && !state}
  <p class="p-6" role="alert">{design_.error.message}. <a href={p("/")}>All designs</a></p>
{:else}
  <main class="min-h-0 flex-1 overflow-hidden">{@render children()}</main>
{/if}

<Palette
  {design}
  open={panel.value === "palette"}
  close={() => (panel.value = "")}
  {undo}
  {redo}
  undoes={state?.undo ?? ""}
  redoes={state?.redo ?? ""}
/>
<FindingsDrawer {design} open={panel.value === "findings"} close={() => (panel.value = "")} />
<KeyList open={panel.value === "keys"} close={() => (panel.value = "")} />
