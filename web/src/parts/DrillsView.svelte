<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { Drill } from "../api/client";
  import { watchDrills, type DrillProgress } from "../api/drills";
  import { find, useDesign, useDrill, useDrillRemedies, writer } from "../api/queries";
  import { kindWord } from "../lib/form";
  import { side } from "../lib/side";
  import { placeURL } from "../lib/places";
  import { urlState } from "../lib/url.svelte";
  import Known from "./Known.svelte";
  import MarkedPicture from "./MarkedPicture.svelte";
  import RemedyList from "./RemedyList.svelte";
  import Suggest from "./Suggest.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const without = urlState("drill");
  const also = urlState("also");
  const write = writer(useQueryClient(), () => design);
  const state_ = useDesign(() => design);

  let progress = $state.raw<DrillProgress>({});
  let drills = $state.raw<Drill[]>();
  let quiet = $state(0);
  let wrong = $state("");
  let running = $state(false);
  let broken = $state(false);
  let current: AbortController | undefined;
  /** Carries all single failures out, instead of what is carried out already. */
  function begin(): void {
    current?.abort();
    const stop = (current = new AbortController());
    [progress, wrong, broken, running] = [{}, "", false, true];
    watchDrills(design, side(), (p) => (progress = p), stop.signal)
      .then((end) => {
        if (stop.signal.aborted) return;
        [drills, quiet] = [end.drills, end.quiet];
        if (!end.drills.some((d) => d.key === first)) first = end.drills[0]?.key ?? "";
      })
      .catch((e: unknown) => {
        if (!stop.signal.aborted) wrong = e instanceof Error ? e.message : "The drills broke off";
      })
      .finally(() => {
        if (current === stop) [running, broken] = [false, stop.signal.aborted];
      });
  }
  /** They are carried out again whenever the design or the side is another. */
  $effect(() => {
    if (state_.data?.position === undefined) return;
    begin();
    return () => current?.abort();
  });

  const deadly = $derived((drills ?? []).filter((d) => d.dies?.length).length);
  /** The worst when they came first: it stays what is shown, whatever comes later, until another is chosen. */
  let first = $state("");
  const chosen = $derived(without.value || first);
  const things = $derived([chosen, ...(also.value ? [also.value] : [])].filter(Boolean));
  const drill = useDrill(
    () => design,
    () => things,
  );
  let planned = $state("");
  const remedies = useDrillRemedies(
    () => design,
    () => things,
    () => planned === things.join(" ") && planned !== "",
  );
  const kinds = [
    "gateway",
    "box",
    "link",
    "tunnel",
    "session",
    "circuit",
    "peering",
    "attachment",
    "hub",
    "edge-router",
    "site",
    "network",
  ];
  async function options(text: string) {
    return (await find(design, text, kinds))
      .filter((f) => kinds.includes(f.kind))
      .map((f) => ({ value: f.id, label: f.title, hint: kindWord(f.kind) }));
  }
  const until = (u: { seconds: number; never?: boolean; why?: string }): string =>
    u.never
      ? `never by itself: ${u.why}`
      : u.seconds
        ? `after ${u.seconds} s at most: ${u.why}`
        : u.why
          ? `at once: ${u.why}`
          : "at once";
  const lit = $derived(new Set(drill.data?.around ?? []));
</script>

<div class="grid h-full grid-cols-[23rem_1fr]">
  <aside class="border-line flex min-h-0 flex-col border-r" aria-label="Failures">
    <div class="px-3 pt-3 pb-2">
      <h2>
        {#if drills}
          {deadly === 1 ? "1 single failure kills an intent" : `${deadly} single failures kill an intent`}
        {:else}Every single failure{/if}
      </h2>
      {#if running}
        <p class="text-soft text-sm" role="status">
          {progress.waiting
            ? `Waiting, ${progress.waiting} before it`
            : progress.of
              ? `${progress.done} of ${progress.of} carried out`
              : "Beginning"}
          <button class="button ml-1" onclick={() => current?.abort()}>Break off</button>
        </p>
      {/if}
      {#if wrong}<p role="alert" class="text-clash">{wrong}</p>{/if}
      {#if !running && (wrong || broken)}
        <button class="button" onclick={begin}>Carry them out again</button>
      {/if}
    </div>
    <div class="min-h-0 flex-1 overflow-y-auto">
      {#each drills ?? [] as d (d.key + d.title)}
        <button
          class="row"
          aria-current={chosen === d.key}
          onclick={() => {
            without.value = d.key;
            also.value = "";
          }}
        >
          <span class="block">{d.title} <span class="text-soft text-sm">{d.kind}</span></span>
          {#if d.dies?.length}<span class="text-clash block text-sm"
              >× {d.dies.length} {d.dies.length === 1 ? "intent dies" : "intents die"}</span
            >{/if}
          {#if d.moves?.length}<span class="block text-sm"
              >↷ {d.moves.length}
              {d.moves.length === 1 ? "moves" : "move"}, {until(d.moves[0]?.until ?? { seconds: 0 })}</span
            >{/if}
          {#if d.heals?.length}<span class="text-warn block text-sm">{d.heals.length} hold only then</span
            >{/if}
        </button>
      {:else}
        {#if drills}
          <p class="text-soft px-3 py-2">
            No single failure kills or moves an intent. Say what must talk to what, and every failure is tried
            on it.
          </p>
        {/if}
      {/each}
      {#if drills}<p class="text-soft px-3 py-2 text-sm">{quiet} more change nothing.</p>{/if}
    </div>
  </aside>
  <div class="overflow-y-auto p-4">
    {#if chosen}
      <Known of={drill} what="The drill" />
      {#if drill.data}
        {@const d = drill.data}
        <div class="mb-2 flex flex-wrap items-center gap-1.5">
          <h1 class="text-lg">Without {d.title}</h1>
          <a
            class="button ml-auto"
            href={placeURL(design, "proof", { as: "matrix", without: things.join(",") })}
            >Matrix without {things.length > 1 ? "them" : "it"}</a
          >
          <a class="button" href={placeURL(design, "routes", { as: "whatif", without: things.join(",") })}
            >Tables without {things.length > 1 ? "them" : "it"}</a
          >
        </div>
        <div class="mb-3 flex items-center gap-2">
          <span class="label">Fails together with</span>
          <div class="w-72">
            <Suggest
              label="Fails together with"
              {options}
              text={also.value ? (d.titles?.at(-1) ?? "") : ""}
              placeholder="another thing, or a whole party"
              choose={(v) => (also.value = v)}
            />
          </div>
          {#if also.value}<button class="button" onclick={() => (also.value = "")}>Alone again</button>{/if}
        </div>
        <section class="panel border-l-4 px-4 py-2 {d.dies?.length ? 'border-l-clash' : 'border-l-good'}">
          {#if d.dies?.length}
            <p class="text-clash font-semibold">
              {d.dies.length}
              {d.dies.length === 1 ? "intent dies" : "intents die"}; {d.holds} hold.
            </p>
          {:else}
            <p class="text-good font-semibold">No intent dies; {d.holds} hold.</p>
          {/if}
        </section>
        {#each d.dies ?? [] as h (h.intent)}
          <p class="mt-2">
            <a href={placeURL(design, "proof", { intent: h.intent })}>{h.name}</a>
            <span class="text-clash">{h.never ? "leaks" : "dies"}: {h.why}</span>
          </p>
        {/each}
        {#each d.moves ?? [] as m (m.intent)}
          <p class="mt-2">
            <a href={placeURL(design, "proof", { intent: m.intent })}>{m.name}</a>
            moves {m.left?.length ? `from ${m.left.join(", ")}` : ""}
            {m.now?.length ? `to ${m.now.join(", ")}` : "within its link"},
            <span class="text-soft">{until(m.until)}</span>
          </p>
        {/each}
        {#each d.heals ?? [] as h (h.intent)}
          <p class="mt-2">
            <a href={placeURL(design, "proof", { intent: h.intent })}>{h.name}</a>
            <span class="text-warn">holds only without it</span>
          </p>
        {/each}
        {#if d.dies?.length}
          <h2 class="mt-4">What would let them survive</h2>
          {#if planned !== things.join(" ")}
            <button class="button mt-1" onclick={() => (planned = things.join(" "))}>Work it out</button>
          {:else}
            <Known of={remedies} what="What would let them survive" />
            {#if remedies.data}
              <RemedyList
                {design}
                list={remedies.data}
                none="Nothing that Dravin can make lets them survive this: another box, or another party's help, is needed."
                apply={(r) => write.change(r.title, r.edits, true)}
              />
            {/if}
          {/if}
        {/if}
        <h2 class="mt-4 mb-1">Where it is</h2>
        <div class="border-line h-72 border">
          <MarkedPicture {design} {lit} over={nothing} bare />
        </div>
      {/if}
    {:else}
      <p class="text-soft">Whatever may fail alone is taken away here, one at a time, worst first.</p>
    {/if}
  </div>
</div>
{#snippet nothing()}{/snippet}
