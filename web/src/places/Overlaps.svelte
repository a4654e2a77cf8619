<script lang="ts">
  import { Minus, Plus } from "@lucide/svelte";
  import { useOverlaps } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { around, parseRange, type Range } from "../lib/range";
  import { urlState } from "../lib/url.svelte";
  import AroundView from "../parts/AroundView.svelte";
  import { alike, weights } from "../lib/weights";
  import Known from "../parts/Known.svelte";
  import Address from "../parts/Address.svelte";
  import FreeSpace from "../parts/FreeSpace.svelte";
  import Ruler from "../parts/Ruler.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const overlaps = useOverlaps(() => design);
  const chosen = urlState("group");
  const viewing = urlState("view");

  const parties = $derived(overlaps.data?.parties ?? []);
  const partyNames = $derived(new Map(parties.map((x) => [x.id, x.name])));
  const groups = $derived(overlaps.data?.groups ?? []);
  const group = $derived(groups.find((g) => g.key === chosen.value) ?? groups[0]);

  const whole = parseRange("10.0.0.0/8") as Range;
  /** The group's range with room around it, unless another view was asked for. */
  const view = $derived.by(() => {
    const asked = moved ?? parseRange(viewing.value);
    if (asked) return asked;
    const span = group && parseRange(group.span);
    return span ? around(span, span.bits - 4) : whole;
  });
  /** Where the ruler is while it moves; the URL follows once it rests. */
  let moved = $state.raw<Range>();
  let rest: ReturnType<typeof setTimeout> | undefined;
  function show(r: Range): void {
    moved = r;
    clearTimeout(rest);
    rest = setTimeout(() => {
      viewing.replace(r.text);
      moved = undefined;
    }, 200);
  }
  const blocks = ["10.0.0.0/8", "100.64.0.0/10", "172.16.0.0/12", "192.168.0.0/16"];

  let typed = $state("");
  let refused = $state("");
  function goTo(e: SubmitEvent): void {
    e.preventDefault();
    const r = parseRange(typed);
    refused = r ? "" : `"${typed}" is not a prefix; type one such as 192.168.208.0/20`;
    if (r) jump(r.bits > r.width - 4 ? around(r, r.width - 4) : r);
  }
  function lookAt(prefix: string): void {
    const r = parseRange(prefix);
    if (r) jump(around(r, Math.min(r.width - 4, r.bits - 4)));
  }
  /** How many groups are listed; thousands would only be scrolled past. */
  let most = $state(60);
  const filter = urlState("find");
  const fitting = $derived(
    groups.filter((g) =>
      `${g.span} ${g.sentence} ${weights[g.weight].word} ${weights[g.weight].why} ${g.claims
        .slice(0, 200)
        .map((c) => c.title)
        .join(" ")}`
        .toLowerCase()
        .includes(filter.value.trim().toLowerCase()),
    ),
  );
  const listed = $derived(fitting.slice(0, most));
  /** Goes to a view at once, as a step of its own in the browser's history. */
  function jump(r: Range | undefined): void {
    clearTimeout(rest);
    moved = undefined;
    viewing.value = r?.text ?? "";
  }
  function choose(key: string): void {
    jump(undefined);
    chosen.value = key;
  }
</script>

<div class="grid h-full grid-cols-[1fr_23rem] grid-rows-[minmax(0,1fr)]">
  <section class="flex min-w-0 flex-col" aria-label="Ruler">
    <div class="border-line flex flex-wrap items-center gap-1.5 border-b px-3 py-2">
      <form class="flex items-center gap-1.5" onsubmit={goTo}>
        <label for="view" class="label">Showing</label>
        <span class="font-mono font-semibold" data-testid="view">{view.text}</span>
        <input id="view" class="field w-36 font-mono" bind:value={typed} placeholder="go to a prefix" />
      </form>
      <button class="button" onclick={() => show(around(view, view.bits - 1))} aria-label="Zoom out"
        ><Minus size={16} /></button
      >
      <button
        class="button"
        onclick={() => show(around(view, Math.min(view.width - 4, view.bits + 1)))}
        aria-label="Zoom in"><Plus size={16} /></button
      >
      {#each blocks as b (b)}
        <button class="button px-1.5 font-mono text-xs" onclick={() => jump(parseRange(b))}>{b}</button>
      {/each}
      {#if refused}<p class="text-clash w-full text-sm" role="alert">{refused}</p>{/if}
    </div>
    <Known of={overlaps} what="The ranges" />
    {#if overlaps.data}
      <Ruler
        parties={partyNames}
        claims={overlaps.data.claims}
        pools={overlaps.data.pools}
        {groups}
        {group}
        {view}
        {show}
      />
      {#if group}
        <AroundView
          {design}
          {group}
          claims={overlaps.data.claims}
          {view}
          {parties}
          look={(prefix) => lookAt(prefix)}
        />
      {/if}
    {/if}
  </section>
  <aside class="border-line flex min-h-0 flex-col border-l" aria-label="Conflict groups">
    <div class="min-h-0 flex-1 overflow-y-auto">
      <div class="flex flex-col gap-1 px-3 pt-3 pb-1">
        <h2>Conflicts, worst first</h2>
        {#if groups.length > 4}
          <input
            class="field"
            aria-label="Filter conflicts"
            placeholder="Filter: a range, a party, untidy"
            value={filter.value}
            oninput={(e) => filter.replace(e.currentTarget.value)}
          />
          <p class="text-soft text-sm">{fitting.length} of {groups.length}</p>
        {/if}
      </div>
      {#each listed as g (g.key)}
        <div class={g.key === group?.key ? "bg-sheet border-ink border-b-2" : ""}>
          <button class="row" aria-current={g.key === group?.key} onclick={() => choose(g.key)}>
            <span class="flex gap-2"
              ><span class="font-mono">{g.span}</span><span
                class="ml-auto font-semibold {weights[g.weight].tone}"
                title={weights[g.weight].why}>{weights[g.weight].word}</span
              ></span
            >
            <span class="block text-sm"
              >{g.sentence}. <span class="text-soft">{weights[g.weight].why}</span></span
            >
          </button>
          {#if g.key === group?.key}
            <div class="px-3 py-2 text-sm">
              {#each alike(g.claims).slice(0, 40) as same (same.prefix)}
                {#if same.claims.length > 2}
                  <details class="py-0.5">
                    <summary class="flex gap-2"
                      ><span>{same.claims.length} have</span><span class="ml-auto font-mono"
                        >{same.prefix}</span
                      ></summary
                    >
                    {#each same.claims.slice(0, 100) as c (c.owner)}<p class="pl-3">
                        {c.title}{c.fixed ? ", can not be renumbered" : ""}
                      </p>{/each}
                  </details>
                {:else}
                  {#each same.claims as c (c.owner + c.prefix)}
                    <p class="flex flex-wrap gap-x-2 py-0.5">
                      <span>{c.title}</span>
                      <span class="ml-auto"><Address value={c.prefix} /></span>
                      {#if c.fixed}<span class="text-soft w-full">can not be renumbered</span>{/if}
                      {#if c.mapped?.length}<span class="text-good w-full"
                          >seen elsewhere as <Address value={c.mapped[0] ?? ""} /></span
                        >{/if}
                    </p>
                  {/each}
                {/if}
              {/each}
              {#if g.intents.length}
                <p class="text-soft mt-1">
                  {g.intents.length}
                  {g.intents.length === 1 ? "intent has an end" : "intents have an end"} in these ranges.
                </p>
              {/if}
              <a class="button button-main mt-2" href={placeURL(design, "plan", { group: g.key })}
                >Plan what would work</a
              >
            </div>
          {/if}
        </div>
      {:else}
        <p class="text-soft px-3 py-2">No range is held by more than one party.</p>
      {/each}
      {#if fitting.length > listed.length}
        <p class="text-soft px-3 py-2">
          {fitting.length - listed.length} more groups, less bad.
          <button class="button" onclick={() => (most += 100)}>List 100 more</button>
        </p>
      {/if}
    </div>
    <FreeSpace
      {design}
      within={view.text}
      {parties}
      segments={overlaps.data?.segments ?? []}
      look={(prefix) => lookAt(prefix)}
    />
  </aside>
</div>
