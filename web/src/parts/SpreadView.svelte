<script lang="ts">
  import { stopWords } from "../api/codes";
  import { findPrefixes, useEstate, useSpread, useTables } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { boxOf, type PlacedParty } from "../lib/picture";
  import { drawn, pathWords, tableKey, type Mark } from "../lib/routes";
  import BeginWith from "./BeginWith.svelte";
  import Known from "./Known.svelte";
  import MarkedPicture from "./MarkedPicture.svelte";
  import Suggest from "./Suggest.svelte";

  interface Props {
    design: string;
    prefix: string;
    choose: (prefix: string) => void;
  }
  const { design, prefix, choose }: Props = $props();
  const estate = useEstate(() => design);
  const tables = useTables(() => design);
  const spread = useSpread(
    () => design,
    () => prefix,
  );
  const s = $derived(spread.data);
  /** Whose a table, box or party is. */
  const owners = $derived(
    new Map<string, string>([
      ...(tables.data ?? []).map((t): [string, string] => [t.at, t.party]),
      ...(estate.data?.parties ?? []).map((p): [string, string] => [p.id, p.id]),
    ]),
  );
  const picture = $derived(s ? drawn(s, (id) => owners.get(id) ?? "") : { marks: [], steps: [] });
  const lit = $derived(new Set(picture.marks.map((m) => m.party)));
  const tone: Record<Mark["word"], string> = {
    originated: "fill-ink",
    "has it": "fill-good",
    stopped: "fill-clash",
  };
  const sign: Record<Mark["word"], string> = { originated: "◆", "has it": "●", stopped: "⊣" };
  const title = (id: string) =>
    tables.data?.find((t) => t.at === id)?.title ?? estate.data?.parties.find((x) => x.id === id)?.name ?? "";
  async function options(text: string) {
    return (await findPrefixes(design, text)).map((p) => ({
      value: p.prefix,
      label: p.prefix,
      hint: `${p.of || "held by nobody here"}, in ${p.tables} ${p.tables === 1 ? "table" : "tables"}`,
    }));
  }

  /** An arrow from one box to another, ending short of it where it stopped. */
  function arrow(placed: PlacedParty[], from: string, to: string, n: number) {
    const a = boxOf(placed, from);
    const b = boxOf(placed, to);
    if (!a || !b || a === b) return undefined;
    const ya = a.y + a.height / 2 + ((n % 5) - 2) * 6;
    const yb = b.y + b.height / 2 + ((n % 5) - 2) * 6;
    const right = a.x + a.width / 2 < b.x + b.width / 2;
    const same = Math.abs(a.x - b.x) < 60;
    const x1 = right || same ? a.x + a.width : a.x;
    const x2 = same ? b.x + b.width : right ? b.x : b.x + b.width;
    const bend = same ? 70 : (x2 - x1) / 2;
    return {
      d: `M${x1} ${ya}C${x1 + (same ? bend : bend)} ${ya} ${same ? x2 + bend : x2 - bend} ${yb} ${x2} ${yb}`,
      x: x2,
      y: yb,
      toward: same ? -1 : right ? 1 : -1,
    };
  }
</script>

<div class="flex h-full min-h-0 flex-col">
  <div class="border-line flex items-center gap-3 border-b px-3 py-1.5">
    <div class="w-72">
      <Suggest
        label="Prefix"
        text={prefix}
        {options}
        choose={(v) => choose(v)}
        placeholder="A prefix, address or name"
        mono
      />
    </div>
    {#if s}
      <p role="status">
        {#if s.has.length}In {s.has.length} {s.has.length === 1 ? "table" : "tables"}{:else}In no table{/if}{s
          .halts.length
          ? `, stopped at ${s.halts.length} ${s.halts.length === 1 ? "place" : "places"}`
          : ""}
      </p>
    {/if}
    <div id="picture-tools" class="ml-auto flex items-center gap-1.5 text-sm"></div>
  </div>
  {#if !prefix}
    <p class="max-w-prose p-6">
      Choose a prefix: Dravin draws over the estate where it originates, who passed it on, and where it
      stopped and by which rule.
    </p>
    <BeginWith label="Prefixes to begin with" {options} choose={(v) => choose(v)} />
  {:else}
    <Known of={spread} what="The prefix" />
    {#if s}
      <div class="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_22rem]">
        <MarkedPicture {design} {lit}>
          {#snippet over(placed)}
            <defs>
              <marker
                id="tip"
                viewBox="0 0 8 8"
                refX="7"
                refY="4"
                markerWidth="13"
                markerHeight="13"
                markerUnits="userSpaceOnUse"
                orient="auto"
              >
                <path d="M0 0L8 4L0 8Z" class="fill-good" />
              </marker>
            </defs>
            {#each picture.steps as step, n (step.from + step.to)}
              {@const a = arrow(placed, step.from, step.to, n)}
              {#if a}
                <g>
                  <title>{title(step.from)} to {title(step.to)}: {step.why}</title>
                  <path
                    d={a.d}
                    fill="none"
                    stroke-width="2.5"
                    class={step.stopped ? "stroke-clash" : "stroke-good"}
                    stroke-dasharray={step.stopped ? "6 4" : undefined}
                    marker-end={step.stopped ? undefined : "url(#tip)"}
                  />
                  {#if step.stopped}
                    <path
                      d="M{a.x - a.toward * 4} {a.y - 9}V{a.y + 9}"
                      stroke-width="4"
                      class="stroke-clash"
                    />
                  {/if}
                </g>
              {/if}
            {/each}
            {#each picture.marks as m (m.party)}
              {@const b = boxOf(placed, m.party)}
              {#if b}
                <text
                  x={b.x + b.width - 8}
                  y={b.y - 5}
                  text-anchor="end"
                  class="text-sm font-semibold {tone[m.word]} stroke-paper"
                  stroke-width="4"
                  paint-order="stroke">{sign[m.word]} {m.word}</text
                >
              {/if}
            {/each}
          {/snippet}
        </MarkedPicture>
        <aside class="border-line overflow-y-auto border-l p-3 text-sm" aria-label="Where it is">
          {#if s.halts.length}
            <h2 class="text-base">Stopped</h2>
            {#each s.halts as h, n (n)}
              <p class="border-line border-b py-1.5">
                <span class="text-clash font-semibold"
                  ><span aria-hidden="true">⊣</span> {stopWords[h.code]}</span
                >
                toward {title(h.to) || "it"}: {h.why}.
                {#if h.rule}<span class="text-soft block font-mono text-xs break-words">{h.rule}</span>{/if}
                {#if h.joint}<a href={placeURL(design, "estate", { sel: h.joint })}>Open what joins them</a
                  >{/if}
              </p>
            {/each}
          {/if}
          <h2 class="mt-3 text-base">Who has it</h2>
          {#each s.has as h (h.at + (h.segment ?? ""))}
            <p class="border-line border-b py-1.5">
              <a
                href={placeURL(design, "routes", {
                  table: tableKey(h.at, h.segment),
                  entry: s.prefix,
                })}>{h.title}</a
              >
              <span class="text-soft block"
                >{h.route.source}, {h.route.via}{#if h.route.learned?.path.length}, path
                  <span class="font-mono">{pathWords(h.route.learned.path)}</span>{/if}</span
              >
            </p>
          {:else}
            <p class="text-soft">No table has just this prefix; a longer or shorter one may serve.</p>
          {/each}
        </aside>
      </div>
    {/if}
  {/if}
</div>
