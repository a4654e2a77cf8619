<script lang="ts">
  import { Toggle } from "bits-ui";
  import { createVirtualizer } from "@tanstack/svelte-virtual";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import { toast } from "svelte-sonner";
  import { Refusal, type ImportHow } from "../api/client";
  import { importFile, type Imported } from "../api/import";
  import { toRanges } from "../api/ranges";
  import MendLine from "./MendLine.svelte";
  import { complain, designKey, writer } from "../api/queries";

  interface Props {
    design: string;
    done: () => void;
  }
  const { design, done }: Props = $props();
  const queries = useQueryClient();
  const write = writer(queries, () => design);

  const meanings = [
    "",
    "party",
    "kind",
    "name",
    "prefix",
    "mask",
    "vlan",
    "gateway",
    "address",
    "owner",
    "segment",
    "cloud",
    "region",
    "zone",
    "asn",
    "answers",
    "via",
    "fixed",
    "note",
  ];
  const outcomes = [
    { key: "new", word: "new", tone: "text-good" },
    { key: "changed", word: "changed", tone: "text-warn" },
    { key: "same", word: "the same", tone: "text-soft" },
    { key: "refused", word: "refused", tone: "text-clash" },
  ];

  let file = $state<File>();
  let pasted = $state("");
  let how = $state<ImportHow>({});
  let rows = $state<number>();
  let waiting = $state(0); // the place in the queue
  let got = $state<Imported>();
  let problem = $state("");
  let only = $state(""); // the outcome that is listed
  let left = $state<Record<number, boolean>>({}); // lines not to be taken
  let mending = $state<number>(); // the line whose cells are being mended
  let stop: AbortController | undefined;

  const items = $derived((got?.plan.items ?? []).filter((i) => !only || i.outcome === only));
  const mended = $derived(got?.plan.items.find((i) => i.line === mending));
  const takes = $derived(
    (got?.plan.counts.new ?? 0) +
      (got?.plan.counts.changed ?? 0) -
      Object.values(left).filter(Boolean).length,
  );

  async function send(extra: ImportHow): Promise<Imported | undefined> {
    if (!file) return undefined;
    stop?.abort();
    stop = new AbortController();
    problem = "";
    rows = 0;
    try {
      const told = (n: number, place: number) => ([rows, waiting] = [n, place]);
      return await importFile(design, file, { ...how, ...extra }, told, stop.signal);
    } catch (error) {
      if (stop.signal.aborted) problem = "Broken off; nothing was stored.";
      else if (error instanceof Refusal && error.problem.status === 422) problem = error.message;
      else complain(error);
      return undefined;
    } finally {
      rows = undefined;
      waiting = 0;
    }
  }
  async function preview(): Promise<void> {
    left = {};
    only = "";
    got = await send({});
  }
  async function choose(chosen: File | undefined): Promise<void> {
    if (!chosen) return;
    file = chosen;
    mending = undefined;
    how = { party: how.party };
    await preview();
  }
  /** Another choice of how the file is read: the meaning of its columns is told anew, and what was mended goes. */
  function reread(extra: ImportHow): void {
    mending = undefined;
    how = { ...how, columns: undefined, mended: undefined, ...extra };
    void preview();
  }
  function mend(line: number, cells: string[]): void {
    mending = undefined;
    how = { ...how, columns: got?.plan.columns, mended: { ...how.mended, [line]: cells } };
    void preview();
  }
  async function accept(): Promise<void> {
    const dropped = Object.entries(left).flatMap(([n, is]) => (is ? [Number(n)] : []));
    const lines = dropped.length ? { only: without(dropped) } : {};
    const result = await send({
      accept: true,
      base: write.base(),
      reason: `Bring in ${file?.name ?? "a file"}`,
      ...lines,
    });
    await queries.invalidateQueries({ queryKey: designKey(design) });
    if (!result) return;
    if (result.stored) toast.success(`${takes} ${takes === 1 ? "line" : "lines"} brought in`);
    else toast.message("Nothing to change: all of it is there already");
    done();
  }
  /** All lines but some, as ranges. */
  function without(dropped: number[]): [number, number][] {
    let from = 1;
    const out: [number, number][] = [];
    for (const [a, b] of toRanges(dropped)) {
      if (from < a) out.push([from, a - 1]);
      from = b + 1;
    }
    out.push([from, Number.MAX_SAFE_INTEGER]);
    return out;
  }
  function map(column: number, meaning: string): void {
    const columns = [...(got?.plan.columns ?? [])];
    columns[column] = meaning;
    how = { ...how, columns };
    void preview();
  }

  let scroller = $state<HTMLDivElement>();
  const virtual = createVirtualizer<HTMLDivElement, HTMLDivElement>({
    count: 0,
    getScrollElement: () => scroller ?? null,
    estimateSize: () => 28,
    overscan: 12,
  });
  $effect(() => {
    const count = items.length;
    const element = scroller;
    untrack(() => $virtual.setOptions({ count, getScrollElement: () => element ?? null }));
  });
</script>

<div
  class="flex h-full flex-col gap-3 overflow-hidden p-4"
  role="region"
  aria-label="Bring in"
  ondragover={(e) => e.preventDefault()}
  ondrop={(e) => {
    e.preventDefault();
    void choose(e.dataTransfer?.files[0]);
  }}
>
  <div class="flex flex-wrap items-end gap-3">
    <label class="button button-main"
      >Choose a file<input
        type="file"
        class="sr-only"
        onchange={(e) => void choose(e.currentTarget.files?.[0])}
      /></label
    >
    <span class="text-soft max-w-96 text-sm"
      >A spreadsheet or CSV in any language, a list of hosts, a design file, what ip addr, ip route or a BGP
      daemon says, or text with ranges. Or drop it here.</span
    >
    {#if !got?.plan.asks.length}
      <label class="label ml-auto"
        >Whose, where the file does not say
        <input
          class="field w-52"
          bind:value={how.party}
          onchange={() => file && void preview()}
          placeholder="a party's name"
        /></label
      >
    {/if}
    {#if got?.plan.sheets.length}
      <label class="label"
        >Sheet
        <select
          class="field"
          value={got.plan.sheet}
          onchange={(e) => reread({ sheet: e.currentTarget.value })}
        >
          {#each got.plan.sheets as s (s)}<option>{s}</option>{/each}
          {#if got.plan.sheets.length > 1}<option value="*">all sheets</option>{/if}
        </select></label
      >
    {/if}
    {#if got?.plan.encoding}
      <label class="label"
        >Encoding
        <select
          class="field"
          value={got.plan.encoding}
          onchange={(e) => reread({ encoding: e.currentTarget.value })}
        >
          {#each got.plan.encodings as e (e)}<option>{e}</option>{/each}
        </select></label
      >
    {/if}
  </div>
  {#if !file}
    <form
      class="flex min-h-0 flex-1 flex-col gap-2"
      onsubmit={(e) => {
        e.preventDefault();
        void choose(new File([pasted], "pasted text"));
      }}
    >
      <label class="label" for="pasted">Or paste it</label>
      <textarea
        id="pasted"
        class="field min-h-40 flex-1 font-mono"
        bind:value={pasted}
        placeholder="Marrow Hill: data room 10.214.0.0/22"></textarea>
      <button class="button self-start" disabled={!pasted.trim()}>Preview</button>
    </form>
  {/if}
  {#if rows !== undefined}
    <p class="flex items-center gap-3" role="status">
      {#if waiting}
        Place in the queue: {waiting}. Only a few imports run at once; {file?.name} is read when it is its turn.
      {:else}
        Reading {file?.name}: {rows.toLocaleString("en")} lines
      {/if}
      <button class="button" onclick={() => stop?.abort()}>Break off</button>
    </p>
  {/if}
  {#if problem}
    <p class="border-clash border-l-4 pl-3" role="alert">Nothing was stored. {problem}</p>
  {/if}
  {#if got && rows === undefined}
    <div class="flex flex-wrap items-center gap-2">
      <p><span class="font-semibold">{file?.name}</span>, {got.plan.format}:</p>
      {#each outcomes as o (o.key)}
        <Toggle.Root
          class="button {only === o.key ? 'bg-mark' : ''}"
          pressed={only === o.key}
          onPressedChange={(on) => (only = on ? o.key : "")}
        >
          <span class="font-semibold {o.tone}">{got.plan.counts[o.key] ?? 0} {o.word}</span>
        </Toggle.Root>
      {/each}
      <button class="button button-main ml-auto" onclick={accept} disabled={takes === 0}
        >Bring in {takes} {takes === 1 ? "line" : "lines"}</button
      >
    </div>
    {#if got.plan.asks.includes("party")}
      <form
        class="panel border-l-warn flex flex-wrap items-end gap-3 border-l-4 p-3"
        aria-label="Whose it is"
        onsubmit={(e) => {
          e.preventDefault();
          void preview();
        }}
      >
        <label class="label"
          ><span class="font-semibold">Whose is it?</span> Some lines do not say.
          <input
            class="field w-64"
            bind:value={how.party}
            placeholder="a party's name, there or new"
          /></label
        >
        <button class="button button-main" disabled={!how.party?.trim()}>Go on</button>
      </form>
    {/if}
    {#if got.plan.notes.length || got.plan.hosts}
      <ul class="text-soft text-sm">
        {#each got.plan.notes as note (note)}<li>{note}</li>{/each}
        {#if got.plan.hosts}
          <li>
            {got.plan.hosts}
            {got.plan.hosts === 1 ? "line gives" : "lines give"} a host's address where a range should be:
            <select
              class="field w-72"
              aria-label="A host's address with a length"
              value={how.refuseHosts ? "refuse" : "take"}
              onchange={(e) => {
                how = { ...how, refuseHosts: e.currentTarget.value === "refuse" };
                void preview();
              }}
            >
              <option value="take">take the range that holds it</option>
              <option value="refuse">refuse the line</option>
            </select>
          </li>
        {/if}
      </ul>
    {/if}
    {#if mended}
      <MendLine item={mended} header={got.plan.header} {mend} close={() => (mending = undefined)} />
    {/if}
    {#if got.plan.header.length}
      <div class="flex gap-2 overflow-x-auto pb-1" role="group" aria-label="Columns">
        {#each got.plan.header as h, n (n)}
          <label class="label shrink-0"
            >{h || "unnamed column"} is
            <select
              class="field w-28"
              value={got.plan.columns[n]}
              onchange={(e) => map(n, e.currentTarget.value)}
            >
              {#each meanings as m (m)}<option value={m}>{m || "not used"}</option>{/each}
            </select></label
          >
        {/each}
      </div>
    {/if}
    <div bind:this={scroller} class="panel min-h-0 flex-1 overflow-y-auto" role="list" aria-label="Lines">
      <div class="relative" style:height="{$virtual.getTotalSize()}px">
        {#each $virtual.getVirtualItems() as row (row.index)}
          {@const i = items[row.index]}
          {#if i}
            {@const can = i.outcome === "new" || i.outcome === "changed"}
            <label
              class="border-line absolute inset-x-0 top-0 grid grid-cols-[2rem_4rem_5rem_minmax(0,1fr)_minmax(0,1.4fr)_auto] items-center border-b px-3 text-sm"
              role="listitem"
              style:height="28px"
              style:transform="translateY({row.start}px)"
            >
              <input
                type="checkbox"
                aria-label="Take line {i.line}"
                disabled={!can}
                checked={can && !left[i.line]}
                onchange={(e) => (left[i.line] = !e.currentTarget.checked)}
              />
              <span class="text-soft font-mono">{i.line}</span>
              <span class="font-semibold {outcomes.find((o) => o.key === i.outcome)?.tone}">{i.outcome}</span>
              <span class="truncate" title={i.subject}>{i.subject}</span>
              <span class="text-soft truncate" title={i.why}>{i.why}</span>
              {#if i.cells?.length}
                <button
                  class="button px-1 py-0 text-xs"
                  onclick={() => (mending = i.line)}
                  aria-label="Mend line {i.line}">Mend</button
                >
              {/if}
            </label>
          {/if}
        {/each}
      </div>
    </div>
    {#if got.left}<p class="text-soft text-sm">
        {got.left.toLocaleString("en")} more lines are not listed; they will be brought in all the same.
      </p>{/if}
  {/if}
</div>
