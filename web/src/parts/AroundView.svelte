<script lang="ts">
  import type { Claim, Group } from "../api/client";
  import { find, useFree } from "../api/queries";
  import { parseRange, type Range } from "../lib/range";
  import Address from "./Address.svelte";
  import FormDrawer from "./FormDrawer.svelte";
  import Suggest from "./Suggest.svelte";

  interface Props {
    design: string;
    group: Group;
    claims: Claim[];
    view: Range;
    /** Who could take what is free. */
    parties: { id: string; name: string }[];
    look: (prefix: string) => void;
  }
  const { design, group, claims, view, parties, look }: Props = $props();

  const span = $derived(parseRange(group.span));
  /** The nearest ranges before and behind the group's. */
  const around = $derived.by(() => {
    if (!span) return [];
    const own = new Set(group.claims.map((c) => c.owner + c.prefix));
    return claims
      .flatMap((c) => {
        const r = parseRange(c.prefix);
        if (!r || r.width !== span.width || own.has(c.owner + c.prefix)) return [];
        const gap = r.start > span.start ? r.start - span.start : span.start - r.start;
        return [{ c, gap }];
      })
      .sort((a, b) => (a.gap < b.gap ? -1 : 1))
      .filter(({ c }, n, all) => all.findIndex((x) => x.c.prefix === c.prefix) === n)
      .slice(0, 7);
  });
  const size = $derived(span ? Math.max(span.bits, view.bits) : 24);
  const free = useFree(
    () => design,
    () => ({ size, within: view.bits > 8 ? wide(view) : view.text, parties: [], segment: "" }),
    () => span !== undefined,
  );
  /** Where to look: the view, or the private block's share around it that has room. */
  function wide(v: Range): string {
    const octets = v.text.split("/")[0]?.split(".") ?? [];
    return octets.length === 4 && v.bits > 16 ? `${octets[0]}.${octets[1]}.0.0/16` : v.text;
  }
  let making = $state.raw<{ parent: string; prefix: string }>();
  async function takers(text: string) {
    const found = await find(design, text, ["site"]);
    return found.map((f) => ({ value: f.id, label: f.title, hint: f.hint }));
  }
</script>

<section
  class="border-ink bg-sheet grid max-h-[46%] shrink-0 grid-cols-2 overflow-y-auto border-t-2"
  aria-label="Around it"
>
  <div class="border-line border-r p-3">
    <h2 class="mb-1">Around {group.span}</h2>
    {#each around as { c } (c.owner + c.prefix)}
      <p class="flex gap-2 py-0.5 text-sm">
        <span class="truncate">{c.title}</span><span class="ml-auto"><Address value={c.prefix} /></span>
      </p>
    {:else}<p class="text-soft text-sm">Nobody else holds anything near.</p>{/each}
  </div>
  <div class="p-3">
    <h2 class="mb-1">Free near it, each a /{size}</h2>
    {#each (free.data ?? []).slice(0, 6) as f (f.prefix)}
      <div class="flex items-center gap-2 py-0.5 text-sm">
        <Address value={f.prefix} />
        <button class="button px-1.5 py-0" onclick={() => look(f.prefix)}>Show</button>
        <span class="ml-auto w-44"
          ><Suggest
            label="Give {f.prefix} to"
            placeholder="give it to a site"
            options={takers}
            text=""
            choose={(id) => (making = { parent: id, prefix: f.prefix })}
          /></span
        >
      </div>
    {:else}
      {#if free.data}<p class="text-soft text-sm">
          No /{size} is free here; {parties.length} parties hold it all.
        </p>{/if}
    {/each}
    {#if free.error}<p class="text-clash text-sm" role="alert">{free.error.message}</p>{/if}
  </div>
</section>
<FormDrawer
  {design}
  of={making && { kind: "lan", parent: making.parent }}
  given={making && { prefixes: [making.prefix] }}
  close={() => (making = undefined)}
  done={() => (making = undefined)}
/>
