<script lang="ts">
  import type { RouteEffect } from "../api/client";
  import { boxOf } from "../lib/picture";
  import MarkedPicture from "./MarkedPicture.svelte";

  interface Props {
    design: string;
    effect: RouteEffect | undefined;
    /** What the change is about, besides the parties whose tables differ. */
    about?: string;
    bare?: boolean;
  }
  const { design, effect, about = "", bare = false }: Props = $props();
  const counts = $derived.by(() => {
    const out: Record<string, { gained: number; lost: number; moved: number }> = {};
    for (const t of effect?.tables ?? []) {
      const at = (out[t.party] ??= { gained: 0, lost: 0, moved: 0 });
      at.gained += t.gained.length;
      at.lost += t.lost.length;
      at.moved += t.moved.length;
    }
    return out;
  });
  const lit = $derived(new Set([...Object.keys(counts), about].filter(Boolean)));
</script>

<MarkedPicture {design} {lit} {bare}>
  {#snippet over(placed)}
    {#each Object.entries(counts) as [id, n] (id)}
      {@const b = boxOf(placed, id)}
      {#if b}
        <rect
          x={b.x}
          y={b.y}
          width={b.width}
          height={b.height}
          fill="none"
          stroke-width="3"
          class="stroke-warn"
        />
        <text
          x={b.x + b.width - 8}
          y={b.y - 5}
          text-anchor="end"
          class="fill-warn stroke-paper text-sm font-semibold"
          stroke-width="4"
          paint-order="stroke"
          >{[n.gained && `+${n.gained}`, n.lost && `-${n.lost}`, n.moved && `${n.moved} moved`]
            .filter(Boolean)
            .join("  ")}</text
        >
      {/if}
    {/each}
  {/snippet}
</MarkedPicture>
