<script lang="ts">
  import type { Claim, Group } from "../api/client";
  import {
    around,
    beside,
    formatAddress,
    fraction,
    meets,
    parseRange,
    sizeWords,
    type Range,
  } from "../lib/range";

  interface Props {
    claims: Claim[];
    pools: Claim[];
    groups: Group[];
    /** The group to draw attention to. */
    group?: Group;
    view: Range;
    show: (view: Range) => void;
  }
  const { claims, pools, groups, group, view, show }: Props = $props();

  let width = $state(600);
  const labelWidth = 190;
  const rowHeight = 26;
  const top = 34;
  const scale = $derived(Math.max(100, width - labelWidth - 14));

  interface Bar {
    claim: Claim;
    range: Range;
    x: number;
    w: number;
  }
  const bar = (claim: Claim): Bar | undefined => {
    const range = parseRange(claim.prefix);
    if (!range || !meets(range, view)) return undefined;
    const a = Math.max(0, fraction(view, range.start));
    const b = Math.min(1, fraction(view, range.start + range.size));
    return { claim, range, x: labelWidth + a * scale, w: Math.max(2, (b - a) * scale) };
  };
  const rows = $derived.by(() => {
    const byTitle: { title: string; bars: Bar[]; pool: boolean }[] = [];
    for (const [list, pool] of [
      [claims, false],
      [pools, true],
    ] as const) {
      for (const claim of list) {
        const b = bar(claim);
        if (b) byTitle.push({ title: claim.title, bars: [b], pool });
      }
    }
    return byTitle;
  });
  /** The columns where parties collide, as far as they are in view. */
  const columns = $derived(
    groups.flatMap((g) => {
      // Where the deepest claims of a group overlap is where it hurts.
      const inner = g.claims.map((c) => parseRange(c.prefix)).filter((r) => r !== undefined);
      const least = inner.reduce<Range | undefined>((m, r) => (!m || r.size < m.size ? r : m), undefined);
      if (!least || !meets(least, view)) return [];
      const a = Math.max(0, fraction(view, least.start));
      const b = Math.min(1, fraction(view, least.start + least.size));
      return [{ group: g, x: labelWidth + a * scale, w: Math.max(3, (b - a) * scale) }];
    }),
  );
  const outside = $derived(claims.length + pools.length - rows.length);
  const height = $derived(top + Math.max(1, rows.length) * rowHeight + 34);
  const ticks = $derived(
    Array.from({ length: 5 }, (_, n) => ({
      x: labelWidth + (n / 4) * scale,
      text: formatAddress(view.start + (view.size * BigInt(n)) / 4n - (n === 4 ? 1n : 0n), view.width),
      anchor: n === 0 ? ("start" as const) : n === 4 ? ("end" as const) : ("middle" as const),
    })),
  );

  /** Zooms by whole bits and keeps what is at that place (0 to 1) in view. */
  function zoom(bits: number, at = 0.5): void {
    const point = view.start + (view.size * BigInt(Math.round(at * 1000))) / 1000n;
    const clamped = point >= view.start + view.size ? view.start + view.size - 1n : point;
    show(
      around(
        { ...view, start: clamped, size: 1n },
        Math.max(view.width === 32 ? 4 : 8, Math.min(view.width - 4, view.bits + bits)),
      ),
    );
  }
  function onwheel(e: WheelEvent): void {
    if (e.ctrlKey || e.shiftKey) return;
    e.preventDefault();
    const at = (e.offsetX - labelWidth) / scale;
    zoom(e.deltaY < 0 ? 1 : -1, Math.min(1, Math.max(0, at)));
  }
  function onkeydown(e: KeyboardEvent): void {
    const act: Record<string, () => void> = {
      "+": () => zoom(1),
      "=": () => zoom(1),
      "-": () => zoom(-1),
      ArrowRight: () => show(beside(view, 1n)),
      ArrowLeft: () => show(beside(view, -1n)),
    };
    const does = act[e.key];
    if (!does) return;
    e.preventDefault();
    does();
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
<div
  class="min-h-0 flex-1 overflow-y-auto"
  bind:clientWidth={width}
  role="application"
  tabindex="0"
  aria-label="Address ruler: + and - zoom, arrows move"
  {onkeydown}
>
  <svg {width} {height} {onwheel} role="presentation">
    <defs>
      <pattern
        id="clash-hatch"
        width="7"
        height="7"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(45)"
      >
        <path d="M0 0V7" class="stroke-clash" stroke-width="1.6" />
      </pattern>
      <pattern id="pool-hatch" width="6" height="6" patternUnits="userSpaceOnUse">
        <circle cx="3" cy="3" r="0.9" class="fill-rule" />
      </pattern>
    </defs>
    <path d="M{labelWidth} {top - 4}H{labelWidth + scale}" class="stroke-ink" stroke-width="1.5" />
    {#each ticks as t (t.x)}
      <path d="M{t.x} {top - 10}V{height}" class="stroke-line" />
      <text x={t.x} y={top - 14} text-anchor={t.anchor} class="fill-soft font-mono text-xs">{t.text}</text>
    {/each}
    {#each columns as c (c.group.key)}
      <rect
        x={c.x}
        y={top - 4}
        width={c.w}
        height={height - top - 24}
        fill="url(#clash-hatch)"
        opacity={c.group.key === group?.key ? 0.75 : c.group.weight === "answered" ? 0.2 : 0.4}
      />
    {/each}
    {#each rows as r, n (n)}
      {@const y = top + n * rowHeight}
      {@const inGroup = group?.claims.some((c) => r.bars.some((b) => b.claim.owner === c.owner)) ?? false}
      <text x="8" y={y + 17} class="text-sm {inGroup ? 'fill-ink font-semibold' : 'fill-soft'}"
        >{r.title.length > 26 ? `${r.title.slice(0, 25)}…` : r.title}<title>{r.title}</title></text
      >
      {#each r.bars as b (b.claim.prefix)}
        <g>
          <title
            >{r.title}: {b.claim.prefix}, {sizeWords(b.range)}{b.claim.fixed
              ? ", can not be renumbered"
              : ""}</title
          >
          <rect
            x={b.x}
            y={y + 3}
            width={b.w}
            height={rowHeight - 7}
            class="{r.pool ? '' : 'fill-sheet'} stroke-ink"
            fill={r.pool ? "url(#pool-hatch)" : undefined}
            stroke-dasharray={r.pool ? "4 3" : undefined}
            stroke-width={inGroup ? 2 : 1}
          />
          {#if b.w > b.claim.prefix.length * 7.4}
            <text x={b.x + b.w / 2} y={y + 17} text-anchor="middle" class="fill-ink font-mono text-xs"
              >{b.claim.prefix}</text
            >
          {:else}
            <text
              x={b.x + b.w + 5 + b.claim.prefix.length * 7.4 > labelWidth + scale ? b.x - 5 : b.x + b.w + 5}
              text-anchor={b.x + b.w + 5 + b.claim.prefix.length * 7.4 > labelWidth + scale ? "end" : "start"}
              y={y + 17}
              class="fill-ink stroke-paper font-mono text-xs"
              stroke-width="4"
              paint-order="stroke">{b.claim.prefix}</text
            >
          {/if}
        </g>
      {/each}
    {:else}
      <text x={labelWidth + 10} y={top + 18} class="fill-soft"
        >Nobody holds anything here: all of {view.text} is free.</text
      >
    {/each}
    {#if outside}
      <text x="8" y={height - 8} class="fill-soft text-sm"
        >{outside} more {outside === 1 ? "range lies" : "ranges lie"} outside {view.text}</text
      >
    {/if}
  </svg>
</div>
