<script lang="ts">
  import { X } from "@lucide/svelte";
  import type { Group } from "../api/client";
  import { useIntentList } from "../api/queries";
  import { manyOf } from "../lib/many";
  import { waysOfJoining, wishes } from "../lib/plan";
  import type { URLList, URLState } from "../lib/url.svelte";
  import Choice from "./Choice.svelte";
  import Suggest from "./Suggest.svelte";

  interface Props {
    design: string;
    group: Group | undefined;
    leaveGroup: () => void;
    parties: URLList;
    intents: URLList;
    keep: URLList;
    closed: URLList;
    pool: URLList;
    by: URLList;
    noBoxes: URLState;
    wish: URLState;
    budget: URLState;
    known: { id: string; name: string; owner?: string }[];
    /** The parties that collide with others, and are not answered. */
    colliding: string[];
    /** What holds ranges, by its ID. */
    titles: Record<string, string>;
  }
  const {
    design,
    group,
    leaveGroup,
    parties,
    intents,
    keep,
    closed,
    pool,
    by,
    noBoxes,
    wish,
    budget,
    known,
    colliding,
    titles,
  }: Props = $props();
  const listed = useIntentList(() => design);
  const name = (id: string) => known.find((p) => p.id === id)?.name ?? titles[id] ?? "a place";
  const intent = (id: string) => listed.data?.find((i) => i.intent === id)?.name ?? "an intent";
  const fixed = $derived(
    keep.value.length +
      closed.value.length +
      pool.value.length +
      by.value.length +
      (noBoxes.value ? 1 : 0) +
      (budget.value ? 1 : 0),
  );
  const offer = (list: URLList) => (text: string) =>
    known
      .filter((p) => !list.value.includes(p.id) && p.name.toLowerCase().includes(text.trim().toLowerCase()))
      .map((p) => ({ value: p.id, label: p.name }));
  const many = $derived(manyOf(known, colliding));
  const fewest = 4;
  const rows = $derived([
    { word: "Keeps its range", list: keep },
    { word: "Boxes are not touched", list: closed },
  ]);
</script>

{#snippet chip(text: string, without: string, drop: () => void)}
  <span class="bg-mark inline-flex max-w-64 items-center gap-1 px-1.5"
    ><span class="truncate" title={text}>{text}</span><button aria-label={without} onclick={drop}
      ><X size={14} /></button
    ></span
  >
{/snippet}

<span class="label">Must talk</span>
{#if group}
  {@render chip(`whoever holds ${group.span}`, `Without the conflict over ${group.span}`, leaveGroup)}
{/if}
{#each parties.value.slice(0, fewest) as id (id)}
  {@render chip(
    name(id),
    `Without ${name(id)}`,
    () => (parties.value = parties.value.filter((x) => x !== id)),
  )}
{/each}
{#if parties.value.length > fewest}
  <button class="button" onclick={() => (parties.value = [])} title="Choose anew"
    >and {parties.value.length - fewest} more<X size={14} /></button
  >
{/if}
{#each intents.value as id (id)}
  {@render chip(
    intent(id),
    `Without ${intent(id)}`,
    () => (intents.value = intents.value.filter((x) => x !== id)),
  )}
{/each}
<div class="w-52">
  <Suggest
    label="Who must talk"
    placeholder={parties.value.length ? "and…" : "type a party's name…"}
    text=""
    options={(text) => many.offer(text, parties.value)}
    choose={(value) => (parties.value = many.take(value, parties.value))}
  />
</div>
<div class="ml-auto flex items-center gap-1.5">
  <Choice
    label="What makes an option better"
    options={wishes}
    value={wish.value as ""}
    choose={(key) => (wish.value = key)}
  />
  <details class="relative">
    <summary class="button"
      >What is fixed{#if fixed}<span class="font-mono">{fixed}</span>{/if}</summary
    >
    <div class="border-ink bg-sheet absolute right-0 z-20 mt-0.5 w-96 border-2 p-3 text-sm">
      {#each rows as r (r.word)}
        <p class="font-semibold">{r.word}</p>
        {#each r.list.value as id (id)}
          <p class="flex items-center">
            {name(id)}<button
              class="ml-auto"
              aria-label="{name(id)} may be changed"
              onclick={() => (r.list.value = r.list.value.filter((x) => x !== id))}><X size={14} /></button
            >
          </p>
        {/each}
        <div class="mb-2">
          <Suggest
            label={r.word}
            placeholder="a party"
            text=""
            options={offer(r.list)}
            choose={(id) => (r.list.value = [...r.list.value, id])}
          />
        </div>
      {/each}
      <fieldset class="mb-2">
        <legend class="font-semibold">Joined only by</legend>
        {#each waysOfJoining as w (w.key)}
          <label class="mr-3 inline-flex items-center gap-1.5"
            ><input
              type="checkbox"
              checked={by.value.includes(w.key)}
              onchange={(e) =>
                (by.value = e.currentTarget.checked
                  ? [...by.value, w.key]
                  : by.value.filter((x) => x !== w.key))}
            />{w.word}</label
          >
        {/each}
      </fieldset>
      <label class="font-semibold" for="plan-pool">Mapped ranges come from</label>
      <input
        id="plan-pool"
        class="field font-mono"
        placeholder="what is reserved for mapping"
        value={pool.value.join(", ")}
        onchange={(e) =>
          (pool.value = e.currentTarget.value
            .split(/[\s,]+/)
            .map((t) => t.trim())
            .filter(Boolean))}
      />
      <label class="mt-2 block font-semibold" for="plan-budget">A month may cost at most this more</label>
      <input
        id="plan-budget"
        class="field font-mono"
        inputmode="decimal"
        placeholder="any sum"
        value={budget.value}
        onchange={(e) => (budget.value = e.currentTarget.value.trim())}
      />
      <label class="mt-2 flex items-center gap-2"
        ><input
          type="checkbox"
          checked={noBoxes.value === "yes"}
          onchange={(e) => (noBoxes.value = e.currentTarget.checked ? "yes" : "")}
        />No translating box may be added</label
      >
    </div>
  </details>
</div>
