<script lang="ts">
  import { X } from "@lucide/svelte";
  import type { WalkProof } from "../api/client";
  import { kindWord } from "../lib/form";
  import { decided, stripOf, type Half } from "../lib/strip";

  interface Props {
    proof: WalkProof;
    /** The place whose stages are shown below. */
    chosen: string;
    choose: (id: string) => void;
  }
  const { proof, chosen, choose }: Props = $props();
  const nodes = $derived(stripOf(proof));
  /** Parties beside each other, with how many places they have on the strip. */
  const parties = $derived.by(() => {
    const out: { name: string; from: number; span: number }[] = [];
    nodes.forEach((n, k) => {
      const last = out.at(-1);
      if (last && last.name === n.party) last.span++;
      else out.push({ name: n.party, from: k, span: 1 });
    });
    return out;
  });
  const address = (h: Half, of: "src" | "dst", when: "in" | "out"): string => h[when][of];
  const port = (h: Half, of: "src" | "dst", when: "in" | "out"): number | undefined =>
    of === "src" ? h[when].sport : h[when].dport;
  const changed = (h: Half, of: "src" | "dst"): boolean =>
    address(h, of, "in") !== address(h, of, "out") || port(h, of, "in") !== port(h, of, "out");
</script>

{#snippet end(h: Half, of: "src" | "dst", when: "in" | "out")}{address(h, of, when)}<wbr
  />{#if port(h, of, when)}<span class="text-soft">:{port(h, of, when)}</span>{/if}{/snippet}

{#snippet half(h: Half | undefined, way: string, k: number, row: number)}
  <div
    class="border-line border-t px-1.5 py-1 text-xs {k ? 'border-l' : ''} {h ? '' : 'hatched'} {h?.stopped
      ? 'stop'
      : ''} {chosen && nodes[k]?.id === chosen ? 'bg-sunk' : ''}"
    style:grid-column={`${k + 2}`}
    style:grid-row={`${row}`}
    data-way={way}
  >
    {#if h}
      {#each ["src", "dst"] as const as of (of)}
        <p class="flex gap-1 font-mono leading-tight">
          <span class="text-soft w-7 shrink-0 font-sans">{of === "src" ? "from" : "to"}</span>
          <span class="min-w-0">
            {#if changed(h, of)}<s class="text-soft">{@render end(h, of, "in")}</s><br />{/if}<span
              class={changed(h, of) ? "bg-mark font-semibold" : ""}>{@render end(h, of, "out")}</span
            >
          </span>
        </p>
      {/each}
      {#each decided(h) as d (d)}<p class="text-soft mt-0.5 leading-tight break-words">{d}</p>{/each}
      {#if h.stopped}
        <p class="text-clash mt-0.5 flex items-center gap-0.5 font-semibold"><X size={13} />stopped here</p>
      {/if}
    {:else}
      <span class="sr-only">not on this way</span>
    {/if}
  </div>
{/snippet}

<div class="panel mt-3 overflow-x-auto" role="group" aria-label="The walk, drawn">
  <div class="grid" style:grid-template-columns={`3rem repeat(${nodes.length}, minmax(8rem, 1fr))`}>
    <span class="text-soft flex items-center justify-center text-xs" style:grid-column="1" style:grid-row="3"
      >there →</span
    >
    <span
      class="text-soft border-line flex items-center justify-center border-t text-xs"
      style:grid-column="1"
      style:grid-row="4">← back</span
    >
    {#each parties as p (p.from)}
      <span
        class="bg-sunk border-line truncate px-1.5 py-0.5 text-sm font-semibold {p.from
          ? 'border-ink border-l'
          : ''}"
        style:grid-column={`${p.from + 2} / span ${p.span}`}
        style:grid-row="1"
        title={p.name}>{p.name || "elsewhere"}</span
      >
    {/each}
    {#each nodes as n, k (k)}
      <button
        type="button"
        class="border-line border-t px-1.5 py-1 text-left text-sm leading-tight {k
          ? 'border-l'
          : ''} {chosen === n.id ? 'bg-mark' : ''}"
        style:grid-column={`${k + 2}`}
        style:grid-row="2"
        aria-pressed={chosen === n.id}
        title="Show what happens at {n.title}"
        onclick={() => choose(chosen === n.id ? "" : n.id)}
      >
        {n.title}<span class="text-soft block text-xs">{n.kind ? kindWord(n.kind) : ""}</span>
      </button>
      {@render half(n.there, "there", k, 3)}
      {@render half(n.back, "back", k, 4)}
      <span
        class="border-line text-soft border-t px-1.5 py-0.5 text-xs leading-tight {k ? 'border-l' : ''}"
        style:grid-column={`${k + 2}`}
        style:grid-row="5">{n.by ? `⇄ ${n.by}` : ""}{n.shares ? `; ${n.shares} more share` : ""}</span
      >
    {/each}
  </div>
</div>

<style>
  .hatched {
    background: repeating-linear-gradient(135deg, transparent 0 5px, var(--line) 5px 6px);
  }
  .stop {
    box-shadow: inset 0 0 0 2px var(--clash);
  }
</style>
