<script lang="ts">
  import { useCell, useMatrix } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { urlList, urlState } from "../lib/url.svelte";
  import Choice from "./Choice.svelte";
  import Known from "./Known.svelte";
  import MatrixGrid from "./MatrixGrid.svelte";
  import Suggest from "./Suggest.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const by = urlState("by");
  const within = urlState("within");
  const without = urlList("without");
  const cell = urlState("cell");
  const services = urlList("services");
  const bys = [
    { key: "host", word: "Hosts" },
    { key: "place", word: "LANs, subnets" },
    { key: "group", word: "Groups" },
    { key: "party", word: "Parties" },
    { key: "segment", word: "Segments" },
    { key: "owner", word: "Owners" },
  ] as const;
  type By = (typeof bys)[number]["key"];
  const fold = $derived<By>(bys.find((b) => b.key === by.value)?.key ?? "party");
  const matrix = useMatrix(
    () => design,
    () => ({
      by: fold,
      within: within.value,
      service: services.value,
      without: without.value,
    }),
  );
  const lines = $derived(matrix.data?.lines ?? []);
  /** What the lines that are shown stand for, whatever is asked for by now. */
  const shownBy = $derived<By>(bys.find((b) => b.key === matrix.data?.by)?.key ?? fold);
  /** The cell that is looked at, by the lines' numbers. */
  const at = $derived.by(() => {
    const [row, column] = cell.value.split(" ");
    const r = lines.findIndex((l) => (l.id ?? "") === (row ?? ""));
    const c = lines.findIndex((l) => (l.id ?? "") === (column ?? ""));
    return cell.value && r >= 0 && c >= 0 ? { row: r, column: c } : undefined;
  });
  const flows = useCell(
    () => design,
    () => ({
      by: shownBy,
      within: within.value,
      row: at ? (lines[at.row]?.id ?? "") : "",
      column: at ? (lines[at.column]?.id ?? "") : "",
      service: services.value,
    }),
    () => at !== undefined && !matrix.data?.compared,
  );
  const shown = $derived(
    (matrix.data?.changes ?? []).filter(
      (c) =>
        !at ||
        ((c.row ?? "") === (lines[at.row]?.id ?? "") && (c.column ?? "") === (lines[at.column]?.id ?? "")),
    ),
  );
  /** How many flows have changed that are not listed. */
  const unlisted = $derived(
    (matrix.data?.counts["g"] ?? 0) + (matrix.data?.counts["l"] ?? 0) - (matrix.data?.changes?.length ?? 0),
  );
  const stateOf = (code: string) => matrix.data?.states?.find((s) => s.code === code);
  const changeWords: Record<string, string> = { g: "opened", l: "closed", b: "opened and closed" };
  const word = (state: string): string => stateOf(state)?.title ?? state;
  const cellWord = (code: string): string => {
    if (code === " ") return "nothing";
    return matrix.data?.compared ? (changeWords[code] ?? "unchanged") : word(code);
  };
  const walkURL = (from: string, to: string, service: string): string =>
    placeURL(design, "proof", { from, to, service });
  const serviceOptions = (text: string) =>
    (matrix.data?.all ?? [])
      .filter((s) => s.includes(text.toLowerCase()) && !services.value.includes(s))
      .map((s) => ({ value: s, label: s }));
  function choose(row: number, column: number): void {
    cell.replace(`${lines[row]?.id ?? ""} ${lines[column]?.id ?? ""}`);
  }
  /** What lines are folded into next. */
  const finer: Partial<Record<By, By>> = {
    owner: "party",
    segment: "place",
    group: "host",
    party: "host",
    place: "host",
  };
  function open(n: number): void {
    const next = finer[shownBy];
    const id = lines[n]?.id;
    if (!next || !id) return;
    within.value = id;
    by.value = next;
    cell.value = "";
  }
</script>

<div class="grid h-full grid-cols-[1fr_22rem]">
  <div class="flex min-h-0 min-w-0 flex-col">
    <div class="border-line flex flex-wrap items-center gap-2 border-b px-3 py-1.5">
      <Choice
        label="What a line stands for"
        options={bys}
        value={fold}
        choose={(k) => {
          by.value = k;
          cell.value = "";
        }}
      />
      <div class="w-40">
        <Suggest
          label="Only a service"
          options={serviceOptions}
          text=""
          mono
          placeholder="every service"
          choose={(v) => (services.value = [...services.value, v])}
        />
      </div>
      {#each services.value as s (s)}
        <button
          class="button font-mono"
          title="Count every service again"
          onclick={() => (services.value = services.value.filter((x) => x !== s))}>{s} ×</button
        >
      {/each}
      {#if within.value}
        <button class="button" onclick={() => (within.value = "")}>Within {matrix.data?.within} ×</button>
      {/if}
      {#if without.value.length > 0}
        <button class="button" onclick={() => (without.value = [])}>Changed {matrix.data?.compared} ×</button>
      {/if}
    </div>
    <Known of={matrix} what="The matrix" />
    {#if matrix.data}
      {#if lines.length === 0}
        <p class="text-soft p-4">
          Nobody could talk yet: give sites LANs, and networks subnets, with ranges. Then every one is held
          against every other here.
        </p>
      {:else if (matrix.data.rows ?? []).length === 0}
        <p class="text-soft p-4">
          {lines.length.toLocaleString("en")} lines are too many to see at once. Fold them by LAN or party, and
          open the line that matters.
        </p>
      {:else}
        <MatrixGrid {lines} rows={matrix.data.rows ?? []} {at} {choose} {open} word={cellWord} />
      {/if}
    {/if}
  </div>
  <aside class="border-line flex min-h-0 flex-col border-l" aria-label="What the matrix says">
    {#if matrix.data}
      <ul class="border-line border-b px-3 py-2 text-sm" aria-label="Legend">
        {#if matrix.data.compared}
          <li class="font-semibold">Compared: {matrix.data.compared}</li>
          {#each ["g", "l"] as code (code)}
            <li class="flex gap-2">
              <span class="w-4 text-center font-mono font-semibold">{code === "g" ? "○" : "×"}</span>
              <span class="w-28">{changeWords[code]}</span>
              <span class="font-mono">{(matrix.data.counts[code] ?? 0).toLocaleString("en")}</span> flows
            </li>
          {/each}
          <li class="flex gap-2">
            <span class="w-4 text-center font-mono font-semibold">■</span> some opened and some closed
          </li>
        {:else}
          {#each matrix.data.states ?? [] as s (s.code)}
            <li class="flex gap-2" title={s.doc}>
              <span class="w-4 text-center font-mono font-semibold" aria-hidden="true"
                >{{ "!": "■", x: "×", o: "○", "+": "●", "-": "–", ".": "·" }[s.code]}</span
              >
              <span class="w-28">{s.title}</span>
              <span class="font-mono">{(matrix.data.counts[s.code] ?? 0).toLocaleString("en")}</span>
            </li>
          {/each}
          <li class="text-soft mt-1">
            {matrix.data.hosts} hosts and places, of {matrix.data.classes} kinds, on {matrix.data.services
              ?.length} services; rows start, columns answer.{#if matrix.data.left > 0}
              {matrix.data.left.toLocaleString("en")} more are left out: each place shows its first hosts.{/if}
          </li>
        {/if}
      </ul>
    {/if}
    <div class="min-h-0 flex-1 overflow-y-auto px-3 py-2">
      {#if at}
        <h2>{lines[at.row]?.title} → {lines[at.column]?.title}</h2>
      {/if}
      {#if matrix.data?.compared}
        <ul aria-label="Changed flows">
          {#each shown as c, n (n)}
            <li class="border-line border-b py-1 text-sm">
              <span class={c.works ? "text-warn font-semibold" : "text-clash font-semibold"}
                >{c.works ? "opened" : "closed"}</span
              >
              {c.from_title} → {c.to_title} <span class="font-mono">{c.service}</span>
              {#if c.state !== "."}<span class="text-soft">{word(c.state)}</span>{/if}
            </li>
          {:else}
            {#if unlisted === 0}<li class="text-soft">Nothing opens and nothing closes.</li>{/if}
          {/each}
        </ul>
        {#if unlisted > 0}
          <p class="text-soft py-1 text-sm">
            {unlisted.toLocaleString("en")} more changed and are not listed; keep to one service to see others.
          </p>
        {/if}
      {:else if at && flows.data}
        <p class="text-soft mb-1 text-sm">
          {flows.data.of} flows{flows.data.of > 200 ? ", of which the worst 200 are listed" : ""}
        </p>
        <ul aria-label="Flows of the cell">
          {#each flows.data.flows ?? [] as f, n (n)}
            <li class="border-line border-b py-1 text-sm">
              <a href={walkURL(f.from, f.to, f.service)}
                >{f.from_title} → {f.to_title} <span class="font-mono">{f.service}</span></a
              >
              <span class="block {f.state === 'x' || f.state === '!' ? 'text-clash' : 'text-soft'}"
                >{word(f.state)}{f.code ? ` (${f.code})` : ""}</span
              >
            </li>
          {/each}
        </ul>
      {:else if at}
        <Known of={flows} what="The flows" />
      {:else}
        <p class="text-soft">
          Choose a cell, by pointer or by the arrow keys, to see its flows; each opens its walk. Enter on a
          line unfolds it.
        </p>
      {/if}
    </div>
  </aside>
</div>
