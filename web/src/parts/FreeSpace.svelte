<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { useFree, writer } from "../api/queries";
  import { freshID } from "../lib/stock";
  import { urlState } from "../lib/url.svelte";
  import Address from "./Address.svelte";

  interface Props {
    design: string;
    /** Where to look unless said otherwise: what the ruler shows. */
    within: string;
    parties: { id: string; name: string }[];
    segments: { id: string; name: string }[];
    look: (prefix: string) => void;
  }
  const { design, within, parties, segments, look }: Props = $props();

  const size = urlState("free");
  const allowed = urlState("within");
  const scope = urlState("scope");
  const question = $derived({
    size: Number(size.value) || 24,
    within: allowed.value || within,
    parties: scope.value.startsWith("party:") ? [scope.value.slice(6)] : [],
    segment: scope.value.startsWith("segment:") ? scope.value.slice(8) : "",
  });
  const free = useFree(
    () => design,
    () => question,
    () => size.value !== "",
  );
  const write = writer(useQueryClient(), () => design);
  let name = $state("");

  function ask(e: SubmitEvent): void {
    e.preventDefault();
    const form = new FormData(e.currentTarget as HTMLFormElement);
    allowed.value = String(form.get("within")).trim();
    scope.value = String(form.get("scope"));
    size.value = String(form.get("size")).replace("/", "").trim();
  }
  async function reserve(prefix: string): Promise<void> {
    const id = freshID();
    const object = {
      id,
      kind: "reservation",
      name: name.trim() || `kept ${prefix}`,
      body: { prefix, use: "keep" },
    };
    const called = name;
    if ((await write.change(`Reserve ${prefix}`, () => [{ op: "put", id, object }])) && name === called)
      name = "";
  }
</script>

<section
  class="border-ink bg-sheet max-h-[45%] shrink-0 overflow-y-auto border-t-2 p-3"
  aria-label="Free space"
>
  <h2 class="mb-1">Free space</h2>
  <form class="grid grid-cols-2 gap-2" onsubmit={ask}>
    <label class="label"
      >Size<input
        class="field font-mono"
        name="size"
        value={size.value ? `/${size.value}` : "/24"}
        required
      /></label
    >
    <label class="label"
      >Within<input class="field font-mono" name="within" value={allowed.value} placeholder={within} /></label
    >
    <label class="label col-span-2"
      >Unused by
      <select class="field" name="scope" value={scope.value}>
        <option value="">anybody</option>
        {#each segments as s (s.id)}<option value="segment:{s.id}">anybody in segment {s.name}</option>{/each}
        {#each parties as x (x.id)}<option value="party:{x.id}">{x.name}</option>{/each}
      </select>
    </label>
    <button class="button justify-self-start">Find</button>
  </form>
  {#if size.value}
    {#if free.error}
      <p class="text-clash mt-2 text-sm" role="alert">{free.error.message}</p>
    {:else if free.data}
      {#if free.data.length}
        <label class="label mt-2 block"
          >Reserve it as<input class="field" bind:value={name} placeholder="what it is for" /></label
        >
      {/if}
      <ul class="mt-2" aria-label="Free ranges">
        {#each free.data as f (f.prefix)}
          <li class="border-line flex flex-wrap items-center gap-2 border-b py-1.5 text-sm">
            <Address value={f.prefix} />
            <span class="ml-auto flex gap-1.5">
              <button class="button" onclick={() => look(f.prefix)}>Show</button>
              <button class="button" onclick={() => reserve(f.prefix)}>Reserve</button>
            </span>
            <span class="text-soft w-full">{f.why}</span>
          </li>
        {:else}
          <li class="text-soft text-sm">No free /{question.size} is left in {question.within}.</li>
        {/each}
      </ul>
    {/if}
  {/if}
</section>
