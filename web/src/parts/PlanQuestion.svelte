<script lang="ts">
  import { X } from "@lucide/svelte";
  import type { Group } from "../api/client";
  import { useIntentList } from "../api/queries";
  import { manyOf } from "../lib/many";
  import { weights } from "../lib/weights";
  import type { URLList, URLState } from "../lib/url.svelte";
  import Suggest, { type Option } from "./Suggest.svelte";

  interface Props {
    design: string;
    group: Group | undefined;
    choices: (text: string) => Option[];
    choose: (key: string) => void;
    places: URLList;
    intents: URLList;
    keep: URLList;
    closed: URLList;
    pool: URLList;
    noBoxes: URLState;
    parties: { id: string; name: string; owner?: string }[];
    /** The parties that collide with others, and are not answered. */
    colliding: string[];
    /** What holds ranges, by its ID. */
    titles: Record<string, string>;
  }
  const {
    design,
    group,
    choices,
    choose,
    places,
    intents,
    keep,
    closed,
    pool,
    noBoxes,
    parties,
    colliding,
    titles,
  }: Props = $props();
  const listed = useIntentList(() => design);
  const name = (id: string) => parties.find((p) => p.id === id)?.name ?? titles[id] ?? "a place";
  const intent = (id: string) => listed.data?.find((i) => i.intent === id)?.name ?? "an intent";
  const fixed = $derived(
    keep.value.length + closed.value.length + pool.value.length + (noBoxes.value ? 1 : 0),
  );
  const offer = (list: URLList) => (text: string) =>
    parties
      .filter((p) => !list.value.includes(p.id) && p.name.toLowerCase().includes(text.trim().toLowerCase()))
      .map((p) => ({ value: p.id, label: p.name }));
  const many = $derived(manyOf(parties, colliding));
  const fewest = 4;
  const rows = $derived([
    { word: "Keeps its range", list: keep, title: name },
    { word: "Boxes are not touched", list: closed, title: name },
  ]);
</script>

{#if places.value.length || intents.value.length}
  <span class="label">For</span>
  {#each places.value.slice(0, fewest) as id (id)}
    <span class="bg-mark inline-flex items-center gap-1 px-1.5"
      >{name(id)}<button
        aria-label="Without {name(id)}"
        onclick={() => (places.value = places.value.filter((x) => x !== id))}><X size={14} /></button
      ></span
    >
  {/each}
  {#if places.value.length > fewest}
    <button class="button" onclick={() => (places.value = [])} title="Plan for a conflict again"
      >and {places.value.length - fewest} more<X size={14} /></button
    >
  {/if}
  {#each intents.value as id (id)}
    <span class="bg-mark inline-flex items-center gap-1 px-1.5"
      >{intent(id)}<button
        aria-label="Without {intent(id)}"
        onclick={() => (intents.value = intents.value.filter((x) => x !== id))}><X size={14} /></button
      ></span
    >
  {/each}
{:else}
  <span class="label">Conflict</span>
  <div class="w-72">
    <Suggest
      label="Conflict"
      text={group ? `${group.span} (${weights[group.weight].word})` : ""}
      options={choices}
      {choose}
    />
  </div>
{/if}
<div class="w-52">
  <Suggest
    label="Plan for these parties instead"
    placeholder="or for parties…"
    text=""
    options={(text) => many.offer(text, places.value)}
    choose={(value) => (places.value = many.take(value, places.value))}
  />
</div>
<details class="relative">
  <summary class="button"
    >What is fixed{#if fixed}<span class="font-mono">{fixed}</span>{/if}</summary
  >
  <div class="border-ink bg-sheet absolute right-0 z-20 mt-0.5 w-96 border-2 p-3 text-sm">
    {#each rows as r (r.word)}
      <p class="font-semibold">{r.word}</p>
      {#each r.list.value as id (id)}
        <p class="flex items-center">
          {r.title(id)}<button
            class="ml-auto"
            aria-label="{r.title(id)} may be changed"
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
    <label class="mt-2 flex items-center gap-2"
      ><input
        type="checkbox"
        checked={noBoxes.value === "yes"}
        onchange={(e) => (noBoxes.value = e.currentTarget.checked ? "yes" : "")}
      />No translating box may be added</label
    >
  </div>
</details>
