<script lang="ts">
  import { find, useDesign, useRouteEffect, type Change } from "../api/queries";
  import { kindWord } from "../lib/form";
  import { urlState } from "../lib/url.svelte";
  import BeginWith from "./BeginWith.svelte";
  import ChangedPicture from "./ChangedPicture.svelte";
  import RouteEffect from "./RouteEffect.svelte";
  import Suggest from "./Suggest.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const state_ = useDesign(() => design);
  const without = urlState("without");
  const act = urlState("act");
  const kinds = [
    "site",
    "network",
    "hub",
    "edge-router",
    "gateway",
    "link",
    "tunnel",
    "session",
    "circuit",
    "peering",
    "attachment",
  ];
  let name = $state("");
  async function options(text: string) {
    return (await find(design, text, kinds)).map((f) => ({
      value: f.id,
      label: f.title,
      hint: kindWord(f.kind),
    }));
  }
  const asking = $derived(Boolean(without.value || act.value));
  const change = $derived<Change>(
    act.value === "undo" || act.value === "redo"
      ? { act: act.value }
      : { without: without.value.split(",").filter(Boolean) },
  );
  function leaveOut(id: string, label: string): void {
    name = label;
    act.replace("");
    without.value = id;
  }
  const effect = useRouteEffect(
    () => design,
    () => change,
    () => asking,
  );
</script>

<div class="flex h-full min-h-0 flex-col">
  <div class="border-line flex flex-wrap items-center gap-2 border-b px-3 py-1.5">
    <span>What changes</span>
    <div class="w-80">
      <Suggest
        label="Without"
        text={without.value ? name || "what is chosen" : ""}
        {options}
        choose={leaveOut}
        placeholder="without a tunnel, circuit, gateway, session…"
      />
    </div>
    {#if state_.data?.undo}
      <button
        class="button"
        aria-pressed={act.value === "undo"}
        onclick={() => {
          without.replace("");
          act.value = "undo";
        }}>If I undo: {state_.data.undo}</button
      >
    {/if}
    {#if state_.data?.redo}
      <button
        class="button"
        aria-pressed={act.value === "redo"}
        onclick={() => {
          without.replace("");
          act.value = "redo";
        }}>If I redo: {state_.data.redo}</button
      >
    {/if}
    <div id="picture-tools" class="ml-auto flex items-center gap-1.5 text-sm"></div>
  </div>
  {#if !asking}
    <p class="max-w-prose p-6">
      Choose something that may fail, or an undo: Dravin computes every table again without it, and shows
      which entries are gained, lost and moved, which flows start or stop, and marks the parties in the
      picture. Plans and fixes show the same on their own cards.
    </p>
    <BeginWith label="To begin with" {options} choose={leaveOut} />
  {:else}
    <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_26rem]">
      <ChangedPicture {design} effect={effect.data} about={without.value} />
      <aside class="border-line overflow-y-auto border-l p-3" aria-label="Before and after">
        <RouteEffect {design} {change} open beside />
      </aside>
    </div>
  {/if}
</div>
