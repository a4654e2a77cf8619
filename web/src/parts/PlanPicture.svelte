<script lang="ts">
  import type { PlanOption } from "../api/client";
  import { boxOf, type PlacedParty } from "../lib/picture";
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
  const touched = $derived(
    new Set([
      ...option.changes.map((c) => c.party).filter(Boolean),
      ...option.joints.flatMap((j) => j.ends).filter(Boolean),
    ]),
  );

  interface Line {
    key: string;
    path: string;
    word: string;
    x: number;
    y: number;
  }
  const middle = (b: PlacedParty): [number, number] => [b.x + b.width / 2, b.y + b.height / 2];
  /** The side of a box that looks toward a point. */
  function edge(b: PlacedParty, to: [number, number]): [number, number] {
    const [x, y] = middle(b);
    return Math.abs(to[0] - x) > b.width / 2
      ? [to[0] > x ? b.x + b.width : b.x, y]
      : [x, to[1] > y ? b.y + b.height : b.y];
  }
  /** How a line goes from one box to another: round the outer side of two that stand below each other. */
  function course(a: PlacedParty, b: PlacedParty): Omit<Line, "key" | "word"> {
    if (a.bank === b.bank && Math.abs(a.x - b.x) < a.width / 2) {
      const left = a.bank !== "cloud";
      const side = left ? a.x : a.x + a.width;
      const far = side + (left ? -34 : 34);
      const [y1, y2] = [middle(a)[1], middle(b)[1]];
      return { path: `M${side} ${y1} H${far} V${y2} H${side}`, x: far, y: (y1 + y2) / 2 };
    }
    const [x1, y1] = edge(a, middle(b));
    const [x2, y2] = edge(b, middle(a));
    return { path: `M${x1} ${y1} L${x2} ${y2}`, x: (x1 + x2) / 2, y: (y1 + y2) / 2 };
  }
  /** What joins two parties that are drawn; what comes to something new is drawn from all of them to one point. */
  function lines(placed: PlacedParty[]): Line[] {
    const out: Line[] = [];
    const add = (a: PlacedParty, b: PlacedParty, word: string) => {
      const key = [a.party.id, b.party.id].toSorted().join(" ");
      if (a === b || out.some((l) => l.key === key)) return;
      out.push({ key, word, ...course(a, b) });
    };
    const meeting: Record<string, PlacedParty[]> = {};
    for (const j of option.joints) {
      const [a, b] = j.ends.map((id) => boxOf(placed, id));
      if (a && b) add(a, b, j.kind);
      else if (a ?? b) (meeting[(a ? j.ends[1] : j.ends[0]) ?? ""] ??= []).push((a ?? b) as PlacedParty);
    }
    for (const list of Object.values(meeting))
      for (const [n, a] of list.entries()) for (const b of list.slice(n + 1)) add(a, b, "by something new");
    return out;
  }
</script>

<!-- The estate with what is joined, what each party is seen as, and a frame around whose boxes are touched. -->
<MarkedPicture {design} lit={touched} bare>
  {#snippet over(placed)}
    {#each lines(placed).slice(0, 120) as l (l.key)}
      <path d={l.path} fill="none" stroke-width="3" stroke-dasharray="8 5" class="stroke-good" />
      <text
        x={l.x}
        y={l.y - 4}
        text-anchor="middle"
        class="fill-good stroke-paper text-sm font-semibold"
        stroke-width="4"
        paint-order="stroke">{l.word}</text
      >
    {/each}
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
        {#each (by[id] ?? []).slice(0, 2) as text, n (n)}
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
