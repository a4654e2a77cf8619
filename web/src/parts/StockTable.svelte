<script module lang="ts">
  const features = tableFeatures({
    rowSortingFeature,
    sortedRowModel: createSortedRowModel(),
    sortFns: { alphanumeric: sortFn_alphanumeric },
  });
</script>

<script lang="ts">
  import {
    createSortedRowModel,
    createTable,
    rowSortingFeature,
    sortFn_alphanumeric,
    tableFeatures,
  } from "@tanstack/svelte-table";
  import { createVirtualizer } from "@tanstack/svelte-virtual";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { untrack } from "svelte";
  import { toast } from "svelte-sonner";
  import { side } from "../lib/side";
  import type { Stock, StockRow } from "../api/client";
  import { writer } from "../api/queries";
  import { oneOf } from "../lib/form";
  import { cell, CellEdits, columns, editable, parseBlock, type ColumnKey } from "../lib/stock";
  import FormDrawer from "./FormDrawer.svelte";
  import { urlState } from "../lib/url.svelte";

  interface Props {
    design: string;
    stock: Stock;
    open: (id: string) => void;
    /** Goes on to a link between two parties. */
    plan: (parties: string[]) => void;
  }
  const { design, stock, open, plan }: Props = $props();
  const write = writer(useQueryClient(), () => design);

  const filter = urlState("filter");
  const words = $derived(filter.value.toLowerCase().split(/\s+/).filter(Boolean));
  const haystacks = $derived(
    stock.rows.map((r) =>
      columns
        .map((c) => cell(r, c.key))
        .join("\u0001")
        .toLowerCase(),
    ),
  );
  const fitting = $derived(stock.rows.filter((_, n) => words.every((w) => haystacks[n]?.includes(w))));
  const table = createTable({
    features,
    columns: columns.map((c) => ({
      id: c.key,
      header: c.title,
      accessorFn: (r: StockRow) => cell(r, c.key),
      sortFn: "alphanumeric" as const,
    })),
    get data() {
      return fitting;
    },
  });
  const live = $derived(table.getRowModel().rows.map((r) => r.original));
  let editing = $state<string>(); // the text being typed
  let stood = ""; // what the cell said when typing began
  /** The rows as they are shown: while a cell is typed into, none moves, whatever is answered meanwhile. */
  let rows = $state.raw<StockRow[]>([]);
  $effect.pre(() => {
    if (editing === undefined) rows = live;
    else {
      const now = new Map(stock.rows.map((r) => [r.object.id, r]));
      rows = untrack(() => rows).map((r) => now.get(r.object.id) ?? r);
    }
  });

  const rowHeight = 30;
  let scroller = $state<HTMLDivElement>();
  const virtual = createVirtualizer<HTMLDivElement, HTMLDivElement>({
    count: 0,
    getScrollElement: () => scroller ?? null,
    estimateSize: () => rowHeight,
    overscan: 5,
  });
  $effect(() => {
    const count = rows.length;
    const element = scroller;
    untrack(() => $virtual.setOptions({ count, getScrollElement: () => element ?? null }));
  });

  /** Where the cursor is: at an object, wherever its row is by now. */
  let place = $state({ id: "", row: 0, column: 2 });
  const at = $derived.by(() => {
    const row = rows.findIndex((r) => r.object.id === place.id);
    return { row: row < 0 ? Math.max(0, Math.min(rows.length - 1, place.row)) : row, column: place.column };
  });
  /** What was typed and is not answered yet, by object and column. */
  let pending = $state<Record<string, string>>({});
  const shown = (row: StockRow, column: ColumnKey): string =>
    pending[`${row.object.id} ${column}`] ?? cell(row, column);
  let chosen = $state<Record<string, boolean>>({});
  const chosenRows = $derived(stock.rows.filter((r) => chosen[r.object.id]));
  const partyOf = (r: StockRow): string =>
    ["site", "network", "hub", "edge-router"].includes(r.object.kind) ? r.object.id : (r.object.parent ?? "");
  /** Who must talk, where several rows are chosen: the LANs and networks, or their parties. */
  const holders = $derived([
    ...new Set(
      chosenRows.map((r) => (["lan", "inner-route"].includes(r.object.kind) ? r.object.id : partyOf(r))),
    ),
  ]);

  /** The two ends of an intent, in the order of the table. */
  const two = $derived.by(() => {
    const ends = ["endpoint", "lan", "subnet", "inner-route", "site", "network"];
    const [a, b, ...more] = chosenRows;
    if (!a || !b || more.length || ![a, b].every((r) => ends.includes(r.object.kind))) return undefined;
    return { from: a.object.id, to: b.object.id };
  });
  let asking = $state.raw<{ from: string; to: string }>();

  const key = (column: number): ColumnKey => columns[column]?.key ?? "name";

  function move(row: number, column: number): void {
    const next = Math.max(0, Math.min(rows.length - 1, row));
    place = {
      id: rows[next]?.object.id ?? "",
      row: next,
      column: Math.max(0, Math.min(columns.length - 1, column)),
    };
    $virtual.scrollToIndex(next);
    scroller?.focus();
  }
  function begin(text?: string): void {
    const row = rows[at.row];
    if (!row) return;
    if (!editable(row, key(at.column))) {
      toast.message(
        `The ${columns[at.column]?.title.toLowerCase()} of ${oneOf(row.object.kind)} is not edited here`,
      );
      return;
    }
    place = { ...place, id: row.object.id };
    stood = shown(row, key(at.column));
    editing = text ?? stood;
  }
  /** A cell to be set, by its object: its row may be another by the time. */
  interface Typed {
    id: string;
    column: ColumnKey;
    text: string;
  }
  /** Writes cells once it is their turn, from what is there then; what is refused is told with what was typed. */
  async function set(typed: Typed[], reason: string): Promise<void> {
    for (const t of typed) pending[`${t.id} ${t.column}`] = t.text;
    let told = "";
    const done = await write.change(reason, () => {
      const edits = new CellEdits(stock);
      for (const t of typed) {
        const row = stock.rows.find((r) => r.object.id === t.id);
        if (row) edits.set(row, t.column, t.text);
        else edits.trouble.push("what was typed into is no longer there");
      }
      told = [...edits.trouble, ...(edits.trouble.length ? [] : edits.gone)].join("; ");
      return edits.trouble.length ? [] : edits.edits;
    });
    if (told) toast.message(told, { duration: 10_000 });
    const answered = new Set(typed.map((t) => `${t.id} ${t.column} ${t.text}`));
    pending = Object.fromEntries(
      Object.entries(pending).filter(([k, text]) => !answered.has(`${k} ${text}`)),
    );
    if (!done) toast.error(`Not taken: ${typed.map((t) => `“${t.text}”`).join(", ")}`, { duration: 20_000 });
  }
  function finish(down: boolean): void {
    const row = rows[at.row];
    const column = key(at.column);
    const text = editing?.trim();
    editing = undefined;
    if (down) move(at.row + 1, at.column); // at once, and not when it is answered
    if (!row || text === undefined || text === stood || !editable(row, column)) return;
    const now = shown(row, column);
    if (now === text) return;
    const take = () => void set([{ id: row.object.id, column, text }], `Change ${row.object.name}`);
    if (now === stood) return take();
    // Another has changed it while it was typed into: theirs stands until one says otherwise.
    toast.error(`${row.object.name}: somebody has set “${now}” meanwhile; “${text}” is not taken`, {
      duration: 20_000,
      action: { label: "Take mine", onClick: take },
    });
  }
  function onkeydown(e: KeyboardEvent): void {
    if (editing !== undefined || e.ctrlKey || e.metaKey || e.altKey) return;
    const page = Math.floor((scroller?.clientHeight ?? 300) / rowHeight) - 1;
    const act: Record<string, () => void> = {
      ArrowDown: () => move(at.row + 1, at.column),
      ArrowUp: () => move(at.row - 1, at.column),
      ArrowRight: () => move(at.row, at.column + 1),
      ArrowLeft: () => move(at.row, at.column - 1),
      PageDown: () => move(at.row + page, at.column),
      PageUp: () => move(at.row - page, at.column),
      Home: () => move(0, at.column),
      End: () => move(rows.length - 1, at.column),
      Enter: () => begin(),
      F2: () => begin(),
      " ": () => rows[at.row] && toggle(rows[at.row] as StockRow),
      o: () => rows[at.row] && open((rows[at.row] as StockRow).object.id),
    };
    const does = act[e.key];
    if (!does) return;
    e.preventDefault();
    e.stopPropagation();
    does();
  }
  function toggle(row: StockRow): void {
    chosen[row.object.id] = !chosen[row.object.id];
  }
  async function onpaste(e: ClipboardEvent): Promise<void> {
    if (editing !== undefined) return;
    const block = parseBlock(e.clipboardData?.getData("text/plain") ?? "");
    e.preventDefault();
    const typed: Typed[] = [];
    let refused = 0;
    for (const [n, line] of block.entries()) {
      for (const [m, text] of line.entries()) {
        const row = rows[at.row + n];
        if (
          !row ||
          at.column + m >= columns.length ||
          (!editable(row, key(at.column + m)) && cell(row, key(at.column + m)) !== text)
        )
          refused++;
        else if (editable(row, key(at.column + m)) && shown(row, key(at.column + m)) !== text.trim())
          typed.push({ id: row.object.id, column: key(at.column + m), text: text.trim() });
      }
    }
    if (refused)
      toast.error(`Nothing was pasted: ${refused} of the cells lie outside the table or are not edited here`);
    else if (typed.length) await set(typed, `Paste ${typed.length} ${typed.length === 1 ? "cell" : "cells"}`);
    else toast.message("Nothing to change: the cells say the same already");
  }
  async function setAll(field: "owner" | "segment", e: SubmitEvent): Promise<void> {
    e.preventDefault();
    const form = e.currentTarget as HTMLFormElement;
    const value = String(new FormData(form).get("value"));
    const typed = chosenRows
      .filter((r) => editable(r, field) && shown(r, field) !== value.trim())
      .map((r) => ({ id: r.object.id, column: field, text: value.trim() }));
    if (!typed.length) toast.message(`None of the chosen rows has a ${field} to change`);
    else {
      form.reset();
      await set(
        typed,
        `Set the ${field} of ${typed.length} ${typed.length === 1 ? "row" : "rows"} to ${value || "none"}`,
      );
    }
  }
  const template = `2rem ${columns.map((c) => c.width).join(" ")}`;
  const focus = (node: HTMLInputElement) => {
    node.focus();
    node.select();
  };
</script>

<div class="flex h-full flex-col">
  <div class="border-line flex flex-wrap items-center gap-2 border-b px-3 py-2">
    <input
      class="field w-72"
      placeholder="Filter: any words, any column"
      aria-label="Filter"
      value={filter.value}
      oninput={(e) => (filter.value = e.currentTarget.value)}
    />
    <span class="text-soft text-sm" aria-live="polite">{rows.length} of {stock.rows.length} rows</span>
    {#if chosenRows.length}
      <span class="ml-auto text-sm">{chosenRows.length} chosen</span>
      {#each ["owner", "segment"] as const as field (field)}
        <form class="flex gap-1" onsubmit={(e) => setAll(field, e)}>
          <input
            class="field w-32"
            name="value"
            placeholder={field}
            aria-label="Set {field}"
            list="known-{field}"
          />
          <button class="button">Set {field}</button>
        </form>
      {/each}
      {#if holders.length > 1}
        <button class="button" onclick={() => plan(holders)}>Plan how they talk</button>
      {/if}
      {#if two}
        <button class="button" onclick={() => (asking = two)}>One must reach the other</button>
      {/if}
      <button
        class="button"
        title={side() === "built" ? "The plan stays as it is" : "As planned, with all that stands in them"}
        onclick={() =>
          void write.there(
            { objects: chosenRows.map((r) => r.object.id) },
            side() !== "built",
            side() === "built" ? "Not there" : "There already",
          )}>{side() === "built" ? "Are not there" : "Are there already"}</button
      >
      <button class="button" onclick={() => (chosen = {})}>Choose none</button>
    {:else}
      <span class="text-soft ml-auto text-sm"
        >Arrows move, Enter edits, Space chooses, o opens; paste a block from a spreadsheet</span
      >
    {/if}
    <datalist id="known-owner"
      >{#each stock.owners as o (o.id)}<option value={o.name}></option>{/each}</datalist
    >
    <datalist id="known-segment"
      >{#each stock.segments as o (o.id)}<option value={o.name}></option>{/each}</datalist
    >
  </div>
  <div
    bind:this={scroller}
    class="min-h-0 flex-1 overflow-y-auto outline-none"
    role="grid"
    aria-label="Stock"
    aria-rowcount={rows.length + 1}
    aria-colcount={columns.length + 1}
    aria-activedescendant={rows.length ? `cell-${at.row}-${at.column}` : undefined}
    tabindex="0"
    {onkeydown}
    {onpaste}
  >
    {#each table.getHeaderGroups() as head (head.id)}
      <div
        class="label border-ink bg-paper sticky top-0 z-[2] grid border-b px-2 py-1"
        role="row"
        aria-rowindex={1}
        style:grid-template-columns={template}
      >
        <span role="columnheader">
          <input
            type="checkbox"
            aria-label="Choose all that are listed"
            checked={rows.length > 0 && rows.every((r) => chosen[r.object.id])}
            onchange={(e) => {
              const on = e.currentTarget.checked;
              chosen = Object.fromEntries(rows.map((r) => [r.object.id, on]));
            }}
          />
        </span>
        {#each head.headers as header (header.id)}
          {@const sorted = header.column.getIsSorted()}
          <span
            role="columnheader"
            aria-sort={sorted === "asc" ? "ascending" : sorted === "desc" ? "descending" : "none"}
            ><button class="hover:text-ink" tabindex="-1" onclick={header.column.getToggleSortingHandler()}
              >{header.column.columnDef.header}{sorted === "asc"
                ? " ↑"
                : sorted === "desc"
                  ? " ↓"
                  : ""}</button
            ></span
          >
        {/each}
      </div>
    {/each}
    <div class="relative" role="presentation" style:height="{$virtual.getTotalSize()}px">
      {#each $virtual.getVirtualItems() as item, slot (slot)}
        {@const row = rows[item.index]}
        {#if row}
          <div
            class="border-line absolute inset-x-0 top-0 grid items-center border-b px-2 text-sm {chosen[
              row.object.id
            ]
              ? 'bg-mark'
              : ''}"
            role="row"
            tabindex="-1"
            aria-rowindex={item.index + 2}
            style:height="{rowHeight}px"
            style:transform="translateY({item.start}px)"
            style:grid-template-columns={template}
          >
            <span role="gridcell"
              ><input
                type="checkbox"
                tabindex="-1"
                aria-label="Choose {row.object.name}"
                checked={!!chosen[row.object.id]}
                onchange={() => toggle(row)}
              /></span
            >
            {#each columns as c, n (c.key)}
              {@const here = at.row === item.index && at.column === n}
              {#if here && editing !== undefined}
                <input
                  class="field -ml-1 w-full py-0.5"
                  aria-label="{c.title} of {shown(row, 'name')}"
                  bind:value={editing}
                  {@attach focus}
                  onblur={() => editing !== undefined && finish(false)}
                  onkeydown={(e) => {
                    if (e.key === "Enter") finish(true);
                    if (e.key === "Escape") {
                      editing = undefined;
                      scroller?.focus();
                    }
                    e.stopPropagation();
                  }}
                />
              {:else}
                <!-- svelte-ignore a11y_click_events_have_key_events -->
                <span
                  class="truncate py-1 pr-2 {c.key === 'ranges'
                    ? 'font-mono'
                    : ''} {`${row.object.id} ${c.key}` in pending ? 'italic' : ''} {here
                    ? 'outline-link outline-2'
                    : ''}"
                  role="gridcell"
                  id="cell-{item.index}-{n}"
                  aria-selected={here}
                  tabindex="-1"
                  title={shown(row, c.key)}
                  aria-busy={`${row.object.id} ${c.key}` in pending}
                  onclick={() => move(item.index, n)}
                  ondblclick={() => begin()}>{shown(row, c.key)}</span
                >
              {/if}
            {/each}
          </div>
        {/if}
      {/each}
    </div>
  </div>
</div>
<FormDrawer
  {design}
  of={asking && { kind: "intent" }}
  given={asking}
  close={() => (asking = undefined)}
  done={() => {
    asking = undefined;
    chosen = {};
  }}
/>
