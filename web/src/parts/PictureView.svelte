<script lang="ts">
  import { Maximize, Minus, Plus } from "@lucide/svelte";
  import { select as element } from "d3-selection";
  import { zoom, zoomIdentity, type ZoomTransform } from "d3-zoom";
  import { untrack, type Snippet } from "svelte";
  import type { Estate } from "../api/client";
  import { between } from "../lib/crossings";
  import { fold, groupings, touching, type Grouping } from "../lib/fold";
  import { linkWords } from "../lib/linkwords";
  import { draw, meets, partyWidth, type Box, type PlacedParty } from "../lib/picture";
  import { urlState } from "../lib/url.svelte";
  import { pressing, weights } from "../lib/weights";
  import Legend from "./Legend.svelte";
  import Overview from "./Overview.svelte";
  import PictureLink from "./PictureLink.svelte";
  import PictureParty from "./PictureParty.svelte";

  interface Props {
    estate: Estate;
    selected: string;
    select: (id: string) => void;
    openGroup: (key: string) => void;
    openLink: (id: string) => void;
    /** The parties and joints that are spoken of: the others are dim, and ties are not drawn. */
    lit?: Set<string>;
    /** What is drawn over the parties. */
    over?: Snippet<[PlacedParty[]]>;
    /** It stands by itself, without its tools in the toolbar of the place. */
    bare?: boolean;
  }
  const { estate, selected, select, openGroup, openLink, lit, over, bare = false }: Props = $props();

  const group = urlState("group");
  const unfolded = urlState("open");
  const search = urlState("find");
  const grouping = $derived(groupings.includes(group.value as Grouping) ? (group.value as Grouping) : "");
  const openKeys = $derived(unfolded.value.split(" ").filter(Boolean));
  const shown = $derived(fold(estate, { group: grouping, open: openKeys, selected, search: search.value }));
  const stacks = $derived(shown.parties.filter((x) => x.members.length > 1).length);

  let width = $state(800);
  let height = $state(600);
  /** The scale at which the smallest words can still be read; higher pictures are panned. */
  const readable = 0.94;
  const tall = $derived((height / readable) * 1.5);
  const sketch = $derived(draw(shown, width, "", () => [], tall));
  const fitting = $derived(Math.min(1, Math.max(height / sketch.height, readable)));
  // Laid out so wide that it fills the width at the scale at which it is shown first.
  const picture = $derived(draw(shown, width / fitting, selected, linkWords, tall));
  const ground = $derived(picture.parties.filter((x) => x.bank === "ground"));
  const clouds = $derived(picture.parties.filter((x) => x.bank === "cloud"));
  const bankX = $derived({
    ground: (ground[0]?.x ?? 74) + partyWidth,
    cloud: clouds[0]?.x ?? picture.width - 74 - partyWidth,
  });

  // Zooming and panning.
  let svg = $state<SVGSVGElement>();
  let view = $state.raw<ZoomTransform>(zoomIdentity);
  const behaviour = zoom<SVGSVGElement, unknown>()
    .scaleExtent([0.08, 3])
    .filter((e: Event) => !(e instanceof WheelEvent) && !(e as MouseEvent).button)
    .on("zoom", (e: { transform: ZoomTransform }) => {
      view = e.transform;
      moving = true;
      clearTimeout(rest);
      rest = setTimeout(() => (moving = false), 160);
    });
  /** While it moves the browser keeps it painted, and only shifts it; at rest it is painted sharp. */
  let moving = $state(false);
  let rest: ReturnType<typeof setTimeout> | undefined;
  const by = () => element(svg as SVGSVGElement);
  $effect(() => {
    if (svg) by().call(behaviour).on("dblclick.zoom", null);
  });
  const margin = 40;
  $effect(() => {
    behaviour.translateExtent([
      [-margin, -margin],
      [Math.max(picture.width, width) + margin, Math.max(picture.height, height) + margin],
    ]);
  });
  const whole = $derived(Math.min(1, width / picture.width, height / picture.height));
  const show = (k: number) => by().call((s) => behaviour.transform(s, zoomIdentity.scale(k)));
  // A first view, and another whenever what is drawn is another.
  const drawn = $derived(`${estate.parties.length} ${unfolded.value} ${group.value} ${fitting}`);
  let fitted = "";
  $effect(() => {
    if (!svg || width < 50 || fitted === drawn) return;
    fitted = drawn;
    untrack(() => show(fitting));
  });
  function onwheel(e: WheelEvent): void {
    e.preventDefault();
    if (e.ctrlKey || e.metaKey) {
      const at = svg?.getBoundingClientRect();
      behaviour.scaleBy(by(), 2 ** (-e.deltaY / 300), [e.clientX - (at?.x ?? 0), e.clientY - (at?.y ?? 0)]);
    } else
      behaviour.translateBy(
        by(),
        -(e.shiftKey ? e.deltaY : e.deltaX) / view.k,
        -(e.shiftKey ? 0 : e.deltaY) / view.k,
      );
  }
  const zoomBy = (k: number) => behaviour.scaleBy(by(), k);
  function onkeydown(e: KeyboardEvent): void {
    if (
      e.ctrlKey ||
      e.metaKey ||
      e.altKey ||
      (e.target instanceof HTMLElement && e.target.closest("input, textarea, select"))
    )
      return;
    const step = 80 / view.k;
    const act: Record<string, () => void> = {
      "+": () => zoomBy(1.25),
      "=": () => zoomBy(1.25),
      "-": () => zoomBy(0.8),
      "0": () => show(fitting),
      ArrowLeft: () => behaviour.translateBy(by(), step, 0),
      ArrowRight: () => behaviour.translateBy(by(), -step, 0),
      ArrowUp: () => behaviour.translateBy(by(), 0, step),
      ArrowDown: () => behaviour.translateBy(by(), 0, -step),
      "/": () => finder?.focus(),
    };
    const does = act[e.key];
    if (!does) return;
    e.preventDefault();
    does();
  }
  let finder = $state<HTMLInputElement>();

  // What is drawn: what is in sight, and a little around it, looked at anew when that is left.
  const seen = $derived<Box>({
    x: -view.x / view.k,
    y: -view.y / view.k,
    w: width / view.k,
    h: height / view.k,
  });
  /** Some of it lies out of sight. */
  const partly = $derived(seen.w < picture.width - 30 || seen.h < picture.height - 30);
  let drawnIn: Box | undefined;
  const around = $derived.by<Box>(() => {
    const kept = drawnIn;
    const holds =
      kept &&
      kept.x <= seen.x &&
      kept.y <= seen.y &&
      kept.x + kept.w >= seen.x + seen.w &&
      kept.y + kept.h >= seen.y + seen.h;
    if (kept && holds && kept.w < 4 * seen.w) return kept;
    const room = 0.6;
    return (drawnIn = {
      x: seen.x - room * seen.w,
      y: seen.y - room * seen.h,
      w: (1 + 2 * room) * seen.w,
      h: (1 + 2 * room) * seen.h,
    });
  });
  const visible = $derived({
    parties: picture.parties.filter((p) => meets(around, { x: p.x, y: p.y, w: p.width, h: p.height })),
    links: picture.links
      .filter((l) => meets(around, l.box))
      .map((l) => ({ ...l, tunnels: l.tunnels.map((d) => between(d, around.y, around.y + around.h)) })),
    ties: picture.ties.filter((t) => meets(around, t.box)),
  });
  const near = $derived(view.k > 0.42);

  /** What is lit, stacks with what is in them. */
  const litHere = $derived(
    new Set([
      ...(lit ?? []),
      ...shown.parties.filter((x) => x.members.some((m) => lit?.has(m.id))).map((x) => x.id),
    ]),
  );
  /** What the selected thing touches; undefined while nothing is selected. */
  const touched = $derived(lit ? litHere : touching(shown, selected));
  /** What is looked for, if it is one thing alone or the first of several. */
  const sought = $derived.by(() => {
    const wanted = search.value.trim().toLowerCase();
    return wanted ? (shown.parties.find((x) => x.name.toLowerCase().includes(wanted))?.id ?? "") : "";
  });
  // A sheet that opens leaves the selection and its far ends in sight, as far as they fit.
  $effect(() => {
    const chosen = selected || sought;
    const room = { w: width, h: height };
    if (!chosen || !svg) return;
    untrack(() => {
      const about = touching(shown, chosen);
      const boxes = picture.parties.filter((p) => about?.has(p.party.id));
      const own =
        boxes.find((p) => p.party.id === chosen || p.party.ranges.some((r) => r.id === chosen)) ?? boxes[0];
      if (!own) return;
      const fits = (list: typeof boxes): Box => {
        const x = Math.min(...list.map((p) => p.x));
        const y = Math.min(...list.map((p) => p.y));
        return {
          x,
          y,
          w: Math.max(...list.map((p) => p.x + p.width)) - x,
          h: Math.max(...list.map((p) => p.y + p.height)) - y,
        };
      };
      let wanted = fits(boxes);
      if (wanted.h * 0.5 > room.h) wanted = fits([own]);
      const k = Math.min(view.k, (room.w - 40) / wanted.w, (room.h - 60) / wanted.h, 1);
      const inside =
        seen.x <= wanted.x &&
        seen.y <= wanted.y &&
        seen.x + seen.w >= wanted.x + wanted.w &&
        seen.y + seen.h >= wanted.y + wanted.h;
      if (inside) return;
      /** Where the picture begins in sight: its middle wanted there, and no more than a margin beside it. */
      const shift = (middle: number, all: number, room: number) =>
        all * k <= room ? (room - all * k) / 2 : Math.min(0, Math.max(room - all * k, room / 2 - middle * k));
      const to = zoomIdentity
        .translate(
          shift(wanted.x + wanted.w / 2, picture.width, room.w),
          picture.height * k <= room.h ? 0 : shift(wanted.y + wanted.h / 2, picture.height, room.h),
        )
        .scale(k);
      behaviour.transform(by(), to);
    });
  });

  /** Its tools stand in the toolbar of the place. */
  function toToolbar(node: HTMLElement): void {
    document.getElementById("picture-tools")?.append(node);
  }

  const press = (act: () => void) => (e: KeyboardEvent) => {
    if (e.key === "Enter" || e.key === " ") {
      e.preventDefault();
      e.stopPropagation();
      act();
    }
  };
  const unfold = (id: string) => (unfolded.value = [...openKeys, id].join(" "));
  function pickLink(id: string): void {
    const link = picture.links.find((l) => l.link.id === id)?.link;
    if (link && link.count > 1) {
      const stack = shown.parties.find((p) => p.members.length > 1 && (p.id === link.a || p.id === link.b));
      if (stack) unfold(stack.id);
    } else openLink(id);
  }
  function found(e: KeyboardEvent): void {
    e.stopPropagation();
    if (e.key === "Enter") {
      const wanted = search.value.trim().toLowerCase();
      const first = estate.parties.find((x) => x.name.toLowerCase().includes(wanted));
      if (first && wanted) select(first.id);
    } else if (e.key === "Escape") search.replace("");
  }
  const groupWords: Record<Grouping, string> = {
    "": "not grouped",
    region: "by region",
    owner: "by owner",
    segment: "by segment",
  };
</script>

<div class="flex h-full flex-col">
  {#if !bare}
    <div class="contents" {@attach toToolbar}>
      <input
        bind:this={finder}
        class="field w-36"
        aria-label="Find in the picture"
        placeholder="Find (/)"
        value={search.value}
        oninput={(e) => search.replace(e.currentTarget.value)}
        onkeydown={found}
      />
      <select
        class="field w-auto"
        aria-label="Group by"
        value={grouping}
        onchange={(e) => (group.value = e.currentTarget.value)}
      >
        {#each groupings as g (g)}<option value={g}>{groupWords[g]}</option>{/each}
      </select>
      {#if stacks}
        <button class="button py-0.5" onclick={() => (unfolded.value = "all")}
          >Open {stacks === 1 ? "the stack" : `${stacks} stacks`}</button
        >
      {/if}
      {#if unfolded.value}<button class="button py-0.5" onclick={() => (unfolded.value = "")}
          >Fold likes</button
        >{/if}
      <span class="ml-auto flex items-center gap-1">
        <span class="text-soft font-mono text-xs whitespace-nowrap" aria-live="polite"
          >{Math.round(view.k * 100)} %</span
        >
        <button
          class="button px-1.5 py-1"
          aria-label="Zoom out"
          title="Zoom out (-)"
          onclick={() => zoomBy(0.8)}><Minus size={14} /></button
        >
        <button
          class="button px-1.5 py-1"
          aria-label="Zoom in"
          title="Zoom in (+)"
          onclick={() => zoomBy(1.25)}><Plus size={14} /></button
        >
        <button
          class="button px-1.5 py-1"
          aria-label="Show all"
          title="Show all (0)"
          onclick={() => show(whole)}><Maximize size={14} /></button
        >
      </span>
    </div>
  {/if}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
  <div
    class="relative min-h-0 flex-1 overflow-hidden"
    role="region"
    aria-label="Picture"
    tabindex="0"
    {onkeydown}
    bind:clientWidth={width}
    bind:clientHeight={height}
  >
    <svg
      bind:this={svg}
      {width}
      {height}
      role="group"
      aria-label="The estate"
      class="absolute touch-none"
      {onwheel}
    >
      <defs>
        <pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <path d="M0 0V6" class="stroke-clash" stroke-width="2.2" />
        </pattern>
        <pattern id="bank" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(60)">
          <path d="M0 0V7" class="stroke-line" stroke-width="1.5" />
        </pattern>
      </defs>
      <!-- Words that would be too small to read are left out, the smallest first. -->
      <g
        class={view.k < 0.78
          ? "no-words"
          : view.k < 0.85
            ? "large-words"
            : view.k < 0.935
              ? "middle-words"
              : ""}
        style:transform="translate({view.x}px, {view.y}px) scale({view.k})"
        style:will-change={moving ? "transform" : undefined}
      >
        <rect x={bankX.ground} y="30" width="8" height={picture.height - 36} fill="url(#bank)" />
        <path d="M{bankX.ground} 30V{picture.height - 6}" class="stroke-rule" />
        <rect x={bankX.cloud - 8} y="30" width="8" height={picture.height - 36} fill="url(#bank)" />
        <path d="M{bankX.cloud} 30V{picture.height - 6}" class="stroke-rule" />
        <text x={bankX.ground - 6} y="24" text-anchor="end" class="fill-soft text-sm tracking-wide"
          >Ground</text
        >
        <text x={bankX.cloud + 6} y="24" class="fill-soft text-sm tracking-wide">Clouds</text>
        {#each picture.headings as h (h.text + h.x + h.y)}
          <text x={h.x} y={h.y} text-anchor={h.anchor} class="fill-ink text-sm font-semibold">{h.text}</text>
        {/each}

        {#each visible.links as placed (placed.link.id)}
          <PictureLink
            {placed}
            selected={selected === placed.link.id}
            dim={touched !== undefined && !touched.has(placed.link.id)}
            open={() => pickLink(placed.link.id)}
          />
        {/each}
        {#each visible.parties as placed (placed.party.id)}
          <PictureParty
            {placed}
            {selected}
            {near}
            dim={touched !== undefined && !touched.has(placed.party.id)}
            {select}
            {unfold}
          />
        {/each}

        {@render over?.(picture.parties)}
        {#each lit ? [] : visible.ties as { tie, path }, n (n)}
          <g
            role="button"
            tabindex="0"
            aria-label="Collision: {tie.sentence}"
            class="group outline-none"
            onclick={() => openGroup(tie.group)}
            onkeydown={press(() => openGroup(tie.group))}
          >
            <title>{tie.sentence}</title>
            <path d={path} fill="none" class="stroke-transparent" stroke-width="16" />
            <path
              d={path}
              fill="none"
              class="group-focus-visible:stroke-ink group-hover:stroke-ink {weights[tie.weight].line}"
              stroke-width={tie.weight === "breaks" ? 3 : 2}
              stroke-dasharray={tie.weight === "answered" ? "2 4" : pressing(tie.weight) ? "7 3" : "3 3"}
            />
          </g>
        {/each}
        <!-- above all ties, so that none runs through a word -->
        {#each lit ? [] : visible.ties as { tie, word }, n (n)}
          {#if word}
            <text
              transform="translate({word.x} {word.y}) rotate(-90)"
              text-anchor="middle"
              stroke-width="5"
              paint-order="stroke"
              class="stroke-paper pointer-events-none text-xs {tie.weight === 'answered'
                ? 'fill-good'
                : pressing(tie.weight)
                  ? 'fill-clash'
                  : 'fill-soft'}">{weights[tie.weight].word}</text
            >
          {/if}
        {/each}
      </g>
    </svg>
  </div>
  {#if !lit || partly}
    <div class="border-line flex items-center justify-between gap-3 border-t px-3 py-1">
      {#if lit}<span></span>{:else}<Legend />{/if}
      {#if partly}<Overview {picture} {seen} go={(x, y) => behaviour.translateTo(by(), x, y)} />{/if}
    </div>
  {/if}
</div>
