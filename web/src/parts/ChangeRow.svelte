<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { client, data, type WorkChange } from "../api/client";
  import { useAlone, writer } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { working, workOn } from "../lib/working.svelte";
  import Known from "./Known.svelte";
  import Verdict from "./Verdict.svelte";

  interface Props {
    design: string;
    c: WorkChange;
    all: WorkChange[];
    /** It is proven alone at once; otherwise when somebody opens it. */
    prove: boolean;
  }
  const { design, c, all, prove }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  let open = $state(false);
  let renaming = $state(false);
  let title = $derived(c.title);
  let why = $derived(c.why);
  const alone = useAlone(
    () => design,
    () => c.id,
    () => c.state === "open" && (prove || open),
  );
  const begins = $derived(alone.data?.intents.filter((i) => i.after) ?? []);
  const ends = $derived(alone.data?.intents.filter((i) => !i.after) ?? []);
  const titled = (ids: string[]): string =>
    ids.map((id) => all.find((x) => x.id === id)?.title ?? "another change").join(", ");
  const when = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });
  const isRest = $derived(c.id === "rest");
  const works = $derived(working(design)?.id === c.id);

  const act = (does: "back" | "aside" | "up", word: string): void =>
    void write
      .attempt(
        () =>
          data(
            client.POST("/api/designs/{design}/work/changes/{change}", {
              params: { path: { design, change: c.id } },
              body: { base: write.base(), do: does, ...(c.needed.length ? { with: true } : {}) },
            }),
          ),
        `${word}: ${c.title}`,
      )
      .then((done) => done && works && workOn(design, undefined));

  async function call(): Promise<void> {
    const done = await write.attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/work/changes/{change}", {
            params: { path: { design, change: c.id } },
            body: { base: write.base(), do: "call", title, why },
          }),
        ),
      `It is called ${title}`,
    );
    if (done) renaming = false;
  }
  const along = $derived(c.needed.length ? `, with ${titled(c.needed)}, which cannot be without it` : "");
</script>

<article class="panel mt-2 px-4 py-2 break-inside-avoid" data-testid="change">
  <div class="flex flex-wrap items-baseline gap-2">
    <button class="min-w-0 flex-1 text-left" aria-expanded={open} onclick={() => (open = !open)}>
      <span class="font-semibold">{c.title}</span>
      <span class="text-soft text-sm">
        {[
          isRest ? "" : `${c.author}, ${when.format(new Date(c.at))}`,
          c.of ? `${c.done} of ${c.of} built` : "",
        ]
          .filter(Boolean)
          .join(", ")}</span
      >
    </button>
    <span class="flex flex-wrap gap-1.5 print:hidden">
      {#if c.state === "open"}
        <a class="button" href={placeURL(design, "handover", { as: "runbook", change: c.id })}>Its steps</a>
        {#if !isRest}
          <button
            class="button"
            title="What you change from now on is part of it, until you stop"
            onclick={() => workOn(design, works ? undefined : { id: c.id, title: c.title })}
            >{works ? "Stop working on it" : "Work on it"}</button
          >
        {/if}
        <button
          class="button"
          title="All of it is built as planned"
          onclick={() => void write.there({ change: c.id }, true, `${c.title} is there already`)}
          >Is there already</button
        >
        <button
          class="button"
          title="Out of the plan, to be taken up again{along}"
          onclick={() => act("aside", "Set aside")}>Set aside</button
        >
        <button class="button" title="Out of the plan{along}" onclick={() => act("back", "Taken back")}
          >Take back</button
        >
      {:else if c.state === "aside"}
        <button class="button" onclick={() => act("up", "Taken up again")}>Take up again</button>
      {/if}
    </span>
  </div>
  {#if c.why}<p class="text-soft text-sm">{c.why}</p>{/if}
  {#if c.does}<p class="text-sm">It {c.does}.</p>{/if}
  {#if c.needs.length}<p class="text-warn text-sm">! It needs first: {titled(c.needs)}</p>{/if}
  {#if c.needed.length}<p class="text-soft text-sm">
      Needed by {titled(c.needed)}: set aside or taken back, these go with it.
    </p>{/if}
  {#if alone.data?.cannot}
    <p class="text-clash text-sm">× It can not be built alone: {alone.data.cannot}</p>
  {:else if begins.length}
    <p class="text-sm">
      <span class="text-good">✓</span> For {begins
        .slice(0, 4)
        .map((i) => i.name)
        .join(", ")}{begins.length > 4 ? ` and ${begins.length - 4} more` : ""}
    </p>
  {/if}
  {#if ends.length}<p class="text-clash text-sm">
      × Alone it stops {ends
        .slice(0, 4)
        .map((i) => i.name)
        .join(", ")}{ends.length > 4 ? ` and ${ends.length - 4} more` : ""}
    </p>{/if}
  {#if open}
    {#if !isRest && c.state !== "back"}
      {#if renaming}
        <form class="mt-2 flex flex-wrap gap-1.5" onsubmit={(e) => (e.preventDefault(), void call())}>
          <input class="field w-72" aria-label="Title" bind:value={title} required />
          <input
            class="field w-96"
            aria-label="What it is for"
            placeholder="what it is for"
            bind:value={why}
          />
          <button class="button">Save</button>
        </form>
      {:else}
        <button class="button mt-2" onclick={() => (renaming = true)}>Title and what it is for</button>
      {/if}
    {/if}
    {#if c.state === "open"}
      <Known of={alone} what="What it comes to alone" />
    {/if}
    {#if alone.data && !alone.data.cannot}
      <h3 class="label mt-2">
        Built alone{alone.data.with.length ? `, with ${titled(alone.data.with)}` : ""}: {alone.data.holds} of {alone
          .data.of} intents hold
      </h3>
      {#each alone.data.intents as i (i.intent)}
        <p class="text-sm">
          <a href={placeURL(design, "proof", { intent: i.intent })}>{i.name}</a>
          <Verdict good={i.before} word={i.before ? "holds" : "fails"} /> →
          <Verdict good={i.after} word={i.after ? "holds" : "fails"} />
          <span class="text-soft">{i.why}</span>
        </p>
      {:else}<p class="text-soft text-sm">No intent holds, or fails, because of it.</p>{/each}
      <h3 class="label mt-2">What becomes of what</h3>
      {#each alone.data.changes.slice(0, 60) as x (x.id)}
        <p class="text-sm wrap-anywhere">
          <span class="text-soft">{x.kind}</span> <span class="font-mono">{x.path}</span>: {x.text}
        </p>
      {/each}
      {#if alone.data.changes.length > 60}<p class="text-soft text-sm">
          and {alone.data.changes.length - 60} more
        </p>{/if}
    {/if}
  {/if}
</article>
