<script lang="ts">
  import { createVirtualizer } from "@tanstack/svelte-virtual";
  import { untrack } from "svelte";
  import type { TableEntry } from "../api/client";
  import { getTable, tablePage, useTable, type TableQuestion } from "../api/queries";
  import { attributes, pathWords, readKey, statusOf } from "../lib/routes";
  import { urlState } from "../lib/url.svelte";
  import Choice from "./Choice.svelte";
  import ExplainView from "./ExplainView.svelte";
  import Known from "./Known.svelte";

  interface Props {
    design: string;
    /** The table, as lib/routes writes its key. */
    table: string;
  }
  const { design, table }: Props = $props();
  const prefix = urlState("in");
  const how = urlState("how");
  const source = urlState("source");
  const party = urlState("to");
  const entry = urlState("entry");
  const hows = [
    { key: "", word: "touching", title: "Entries that hold it or lie inside it" },
    { key: "covering", word: "covering", title: "Entries that hold all of it" },
    { key: "covered", word: "covered", title: "Entries that lie inside it" },
    { key: "exact", word: "exact", title: "That very prefix" },
  ];
  const question = $derived<TableQuestion>({
    ...readKey(table),
    prefix: prefix.value.trim(),
    how: (how.value || "touching") as TableQuestion["how"],
    source: source.value,
    party: party.value,
  });
  const first = useTable(
    () => design,
    () => question,
  );

  // Further pages come as they are scrolled to; all begin anew with the first.
  let pages = $state.raw<Record<number, TableEntry[]>>({});
  let trouble = $state("");
  const epoch = $derived(first.dataUpdatedAt + JSON.stringify(question));
  $effect(() => {
    void epoch;
    untrack(() => {
      pages = {};
      trouble = "";
    });
  });
  let asked: string[] = [];
  async function need(page: number): Promise<void> {
    const turn = `${epoch} ${page}`;
    if (page === 0 || pages[page] || asked.includes(turn)) return;
    asked.push(turn);
    const before = epoch;
    try {
      const got = await getTable(design, question, page);
      if (before === epoch) pages = { ...pages, [page]: got.rows };
    } catch (e) {
      trouble = e instanceof Error ? e.message : "the rest of the table can not be had";
    }
    asked = asked.filter((x) => x !== turn);
  }
  const row = (n: number): TableEntry | undefined =>
    n < tablePage ? first.data?.rows[n] : pages[Math.floor(n / tablePage)]?.[n % tablePage];

  const rowHeight = 30;
  let scroller = $state<HTMLDivElement>();
  const virtual = createVirtualizer<HTMLDivElement, HTMLDivElement>({
    count: 0,
    getScrollElement: () => scroller ?? null,
    estimateSize: () => rowHeight,
    overscan: 12,
  });
  const count = $derived(first.data?.matching ?? 0);
  $effect(() => {
    const rows = count;
    const element = scroller;
    untrack(() => $virtual.setOptions({ count: rows, getScrollElement: () => element ?? null }));
  });
  $effect(() => {
    for (const item of $virtual.getVirtualItems()) void need(Math.floor(item.index / tablePage));
  });
  const template =
    "minmax(10.5rem,1.1fr) minmax(9rem,1.3fr) minmax(6.5rem,0.8fr) minmax(7rem,1fr) minmax(8rem,1.4fr)";
  const filtered = $derived(Boolean(prefix.value || source.value || party.value));
  const number = new Intl.NumberFormat("en");
  let at = $state(0);
  function choose(n: string | null | undefined): void {
    if (!n) return;
    at = Number(n);
    const r = row(at);
    if (r) entry.value = r.prefix;
  }
  function onkeydown(e: KeyboardEvent): void {
    const step: Record<string, number> = { ArrowDown: 1, ArrowUp: -1, PageDown: 20, PageUp: -20 };
    const by = step[e.key];
    if (by !== undefined) {
      e.preventDefault();
      at = Math.max(0, Math.min(count - 1, at + by));
      $virtual.scrollToIndex(at);
    } else if (e.key === "Enter") {
      const r = row(at);
      if (r) entry.value = r.prefix;
    }
  }
</script>

<div class="flex h-full min-h-0 flex-col">
  <div class="border-line flex flex-wrap items-center gap-2 border-b px-3 py-1.5">
    <input
      class="field w-52 font-mono"
      aria-label="Prefix or address"
      placeholder="Prefix or address"
      value={prefix.value}
      oninput={(e) => prefix.replace(e.currentTarget.value)}
    />
    <Choice label="How it fits" options={hows} value={how.value} choose={(k) => how.replace(k)} />
    <select
      class="field w-auto"
      aria-label="Source"
      value={source.value}
      onchange={(e) => source.replace(e.currentTarget.value)}
    >
      <option value="">every source</option>
      {#each first.data?.sources ?? [] as s (s)}<option value={s}>{s}</option>{/each}
    </select>
    <select
      class="field w-auto max-w-44"
      aria-label="Leads to"
      value={party.value}
      onchange={(e) => party.replace(e.currentTarget.value)}
    >
      <option value="">wherever it leads</option>
      {#each first.data?.parties ?? [] as x (x.id)}<option value={x.id}>to {x.title}</option>{/each}
    </select>
    {#if first.data}
      <span class="text-soft text-sm whitespace-nowrap" role="status"
        >{filtered ? `${number.format(first.data.matching)} of ` : ""}{number.format(first.data.total)}
        {first.data.total === 1 ? "entry" : "entries"}{first.data.use
          ? `; ${number.format(first.data.use.has)} of the ${number.format(first.data.use.most)} that its cloud takes`
          : ""}</span
      >
    {/if}
  </div>
  {#if trouble}<p class="text-warn px-3 py-1" role="alert">{trouble}</p>{/if}
  {#if first.error || !first.data}
    <Known of={first} what="The table" />
  {/if}
  {#if first.data}
    <div
      class="min-h-0 flex-1 overflow-auto"
      role="grid"
      tabindex="0"
      aria-label={first.data.title}
      aria-rowcount={count + 1}
      aria-activedescendant={count ? `entry-${at}` : undefined}
      bind:this={scroller}
      {onkeydown}
      onclick={(e) => choose((e.target as Element).closest("[data-row]")?.getAttribute("data-row"))}
    >
      <div
        class="label border-line bg-paper sticky top-0 z-[1] grid min-w-[46rem] border-b px-3 py-1"
        role="row"
        style:grid-template-columns={template}
      >
        {#each ["Prefix", "Next hop", "Source", "AS path", "Attributes, and why it won"] as head (head)}
          <span role="columnheader">{head}</span>
        {/each}
      </div>
      <div class="relative min-w-[46rem]" role="presentation" style:height="{$virtual.getTotalSize()}px">
        {#each $virtual.getVirtualItems() as item (item.index)}
          {@const r = row(item.index)}
          <div
            id="entry-{item.index}"
            role="row"
            tabindex="-1"
            aria-rowindex={item.index + 2}
            aria-selected={r?.prefix === entry.value}
            class="border-line hover:bg-sunk absolute inset-x-0 top-0 grid cursor-pointer items-center border-b px-3 text-sm {r?.prefix ===
            entry.value
              ? 'bg-mark'
              : ''} {item.index === at ? 'outline-link -outline-offset-2 focus-within:outline-2' : ''}"
            style:height="{rowHeight}px"
            style:transform="translateY({item.start}px)"
            style:grid-template-columns={template}
            data-row={item.index}
          >
            {#if r}
              <span role="gridcell" class="font-mono {r.unusable ? 'text-soft line-through' : ''}"
                >{r.prefix}</span
              >
              <span role="gridcell" class="truncate pr-2" title={r.via}>{r.via}</span>
              <span role="gridcell" class="text-soft truncate pr-2">{r.source}</span>
              <span role="gridcell" class="truncate pr-2 font-mono" title={pathWords(r.learned?.path)}
                >{pathWords(r.learned?.path)}</span
              >
              <span
                role="gridcell"
                class="truncate {r.unusable ? 'text-warn' : 'text-soft'}"
                title={[attributes(r), statusOf(r)].filter(Boolean).join("; ")}
                >{#if r.unusable}<span class="font-semibold">not used:&nbsp;</span>
                {/if}{[attributes(r), statusOf(r)].filter(Boolean).join("; ")}</span
              >
            {:else}
              <span class="text-soft">…</span>
            {/if}
          </div>
        {/each}
      </div>
      {#if count === 0}
        <p class="text-soft p-4">
          {filtered ? "No entry fits; widen the filter." : "The table is empty: nothing is joined here yet."}
        </p>
      {/if}
    </div>
    {#if entry.value}
      <div class="border-ink max-h-[48%] overflow-y-auto border-t-2">
        <ExplainView {design} {table} asked={entry.value} close={() => (entry.value = "")} />
      </div>
    {:else if first.data.summaries.length && first.data.use}
      <details class="border-line border-t px-3 py-1.5 text-sm">
        <summary>What could stand for several entries</summary>
        {#each first.data.summaries as s (s.prefix + s.via)}
          <p class="border-line border-b py-1">
            <span class="font-mono">{s.prefix}</span> by {s.via} stands for {s.for.length} entries
            {#if s.swallows.length}<span class="text-warn"
                >; swallows {s.swallows.length} that lead elsewhere</span
              >{/if}
            {#if s.holes.length}<span class="text-soft"
                >; hides {s.holes.length === 1 ? "a hole" : `${s.holes.length} holes`}, such as
                <span class="font-mono">{s.holes[0]}</span></span
              >{/if}
          </p>
        {/each}
      </details>
    {/if}
  {/if}
</div>
