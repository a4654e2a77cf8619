<script lang="ts">
  import type { PlanOption } from "../api/client";
  import { boxOf } from "../lib/picture";
  import MarkedPicture from "./MarkedPicture.svelte";

  interface Props {
    design: string;
    option: PlanOption;
  }
  const { design, option }: Props = $props();
  const by = $derived.by(() => {
    const out: Record<string, string[]> = {};
    for (const s of option.seen) (out[s.party] ??= []).push(s.text);
    return out;
  });
  const touched = $derived(new Set(option.changes.map((c) => c.party).filter(Boolean)));
</script>

<!-- The estate with what each party is seen as, and a frame around whose boxes are touched. -->
<MarkedPicture {design} lit={touched} bare>
  {#snippet over(placed)}
    {#each [...touched] as id (id)}
      {@const b = boxOf(placed, id)}
      {#if b}
        <rect
          x={b.x - 2}
          y={b.y - 2}
          width={b.width + 4}
          height={b.height + 4}
          fill="none"
          stroke-width="2"
          stroke-dasharray={by[id] ? undefined : "5 4"}
          class="stroke-warn"
        />
        {#each (by[id] ?? []).slice(0, 2) as text, n (text)}
          <text
            x={b.x}
            y={b.y + b.height + 15 + 15 * n}
            class="fill-warn stroke-paper text-sm font-semibold"
            stroke-width="4"
            paint-order="stroke"
            >{n === 1 && (by[id]?.length ?? 0) > 2 ? `and ${(by[id]?.length ?? 0) - 1} more` : text}</text
          >
        {/each}
      {/if}
    {/each}
  {/snippet}
</MarkedPicture>
