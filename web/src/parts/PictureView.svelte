<script lang="ts">
  import type { Estate } from "../api/client";
  import { standingMark, stateWord } from "../lib/links";
  import { draw, partyWidth } from "../lib/picture";

  interface Props {
    estate: Estate;
    selected: string;
    select: (id: string) => void;
    openGroup: (key: string) => void;
    openLink: (id: string) => void;
  }
  const { estate, selected, select, openGroup, openLink }: Props = $props();

  let width = $state(800);
  const picture = $derived(draw(estate, width, selected));
  const ground = $derived(picture.parties.filter((x) => x.bank === "ground"));
  const clouds = $derived(picture.parties.filter((x) => x.bank === "cloud"));
  const bankX = $derived({
    ground: (ground[0]?.x ?? 74) + partyWidth,
    cloud: clouds[0]?.x ?? picture.width - 74 - partyWidth,
  });

  const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
  const press = (act: () => void) => (e: KeyboardEvent) => {
    if (e.key === "Enter" || e.key === " ") {
      e.preventDefault();
      act();
    }
  };
  /** How many letters of a range's name fit beside its prefix. */
  const room = (r: Estate["parties"][number]["ranges"][number]): number =>
    Math.max(6, Math.floor((partyWidth - 30 - r.prefix.length * 7.8) / 6.8) - (r.fixed ? 8 : 0));
  const partyWords = (x: Estate["parties"][number]): string => {
    const what = x.where || (x.kind === "outside" ? "outside party" : x.kind.replace("-", " "));
    return x.gateways ? `${what}, ${x.gateways} ${x.gateways === 1 ? "gateway" : "gateways"}` : what;
  };
  type Link = Estate["links"][number];
  const strandWords = (l: Link) =>
    l.strands === 0
      ? "no tunnel"
      : l.up < l.strands
        ? `${l.up} of ${l.strands} strands up`
        : l.strands === 1
          ? "1 strand"
          : `${l.strands} strands`;
  const isDown = (l: Link) => !l.standing.up;
  /** What is written at a link: its name, and what it is and how it stands. Attachments only say what is not usual. */
  function words(l: Link): [string, string] {
    const state = l.state === "ready" || isDown(l) ? "" : stateWord(l.state);
    const mark = standingMark(l.standing);
    const bad = isDown(l) ? `${mark.sign} ${mark.word}` : l.verdict === "differs" ? "≠ ends differ" : "";
    const what: Record<string, string> = {
      static: "route-based",
      selectors: "policy-based",
      bgp: "BGP",
    };
    if (l.kind === "attachment") return ["", [state, bad].filter(Boolean).join(", ")];
    if (l.kind !== "link") return [l.name, [l.shape, state, bad].filter(Boolean).join(", ")];
    return [l.name, [strandWords(l), what[l.routing], state, bad].filter(Boolean).join(", ")];
  }
  const tone = (l: Link): string =>
    isDown(l)
      ? standingMark(l.standing).tone === "text-warn"
        ? "stroke-warn"
        : "stroke-clash"
      : l.verdict === "differs"
        ? "stroke-warn"
        : "stroke-link";
  const dash = (l: Link): string | undefined => {
    if (isDown(l)) return "2 6";
    if (l.kind === "peering") return "0.1 8";
    if (l.state !== "ready") return "5 5";
    return l.routing === "selectors" ? "11 3" : undefined;
  };
  /** With very many links lines are thin, and only those say their name that are not as they should be. */
  const crowded = $derived(estate.links.length > 100);
  const weights: Partial<Record<Link["kind"], number>> = { circuit: 6, peering: 4.5, attachment: 1.3 };
  const weight = (l: Link): number => (crowded ? 0.7 : (weights[l.kind] ?? 1.8));
  const named = (l: Link): boolean =>
    !crowded || l.id === selected || l.state !== "ready" || isDown(l) || l.verdict === "differs";
</script>

<div class="h-full overflow-auto" bind:clientWidth={width}>
  <svg width={picture.width} height={picture.height} role="group" aria-label="The estate">
    <defs>
      <pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <path d="M0 0V6" class="stroke-clash" stroke-width="2.2" />
      </pattern>
      <pattern id="bank" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(60)">
        <path d="M0 0V7" class="stroke-line" stroke-width="1.5" />
      </pattern>
    </defs>
    <!-- the two banks -->
    <rect x={bankX.ground} y="30" width="8" height={picture.height - 36} fill="url(#bank)" />
    <path d="M{bankX.ground} 30V{picture.height - 6}" class="stroke-rule" />
    <rect x={bankX.cloud - 8} y="30" width="8" height={picture.height - 36} fill="url(#bank)" />
    <path d="M{bankX.cloud} 30V{picture.height - 6}" class="stroke-rule" />
    <text x={bankX.ground - 6} y="24" text-anchor="end" class="fill-soft text-sm tracking-wide">Ground</text>
    <text x={bankX.cloud + 6} y="24" class="fill-soft text-sm tracking-wide">Clouds</text>

    {#each picture.links as { link, strands, labelX, labelY, anchor } (link.id)}
      <g
        role="button"
        tabindex="0"
        aria-label="Link {link.name}, {words(link)[1] || link.shape}"
        data-up={link.standing.up}
        class="group outline-none"
        onclick={() => openLink(link.id)}
        onkeydown={press(() => openLink(link.id))}
      >
        {#each strands as d, n (n)}
          {@const lost = isDown(link) || (link.kind === "link" && n >= link.up)}
          <path {d} fill="none" class="stroke-transparent" stroke-width="14" />
          <path
            {d}
            fill="none"
            data-up={!lost}
            class="group-hover:stroke-ink group-focus-visible:stroke-ink {selected === link.id
              ? 'stroke-ink'
              : lost && !isDown(link)
                ? 'stroke-clash'
                : tone(link)}"
            stroke-width={weight(link) + (selected === link.id ? 1.4 : 0)}
            stroke-linecap={link.kind === "peering" ? "round" : undefined}
            stroke-dasharray={lost ? "2 6" : dash(link)}
          />
          {#if link.kind === "circuit"}<path {d} fill="none" class="stroke-paper" stroke-width="2.6" />{/if}
        {/each}
        {#if named(link)}
          <text
            x={labelX}
            y={labelY - 4}
            text-anchor={anchor}
            class="fill-ink stroke-paper text-sm"
            stroke-width="5"
            paint-order="stroke">{cut(words(link)[0], 34)}</text
          >
          <text
            x={labelX}
            y={labelY + 11}
            text-anchor={anchor}
            class="fill-soft stroke-paper text-xs"
            stroke-width="5"
            paint-order="stroke">{words(link)[1]}</text
          >
        {:else}<title>{link.name}</title>{/if}
      </g>
    {/each}

    {#each picture.parties as { party, x, y, width: partyW, height, rows, more } (party.id)}
      <g>
        <rect
          {x}
          {y}
          width={partyW}
          {height}
          class="fill-sheet {selected === party.id ? 'stroke-ink' : 'stroke-rule'}"
          stroke-width={selected === party.id ? 2.5 : 1}
        />
        <g
          role="button"
          tabindex="0"
          aria-label="{party.kind} {party.name}"
          class="group outline-none"
          onclick={() => select(party.id)}
          onkeydown={press(() => select(party.id))}
        >
          <rect
            {x}
            {y}
            width={partyW}
            height="34"
            class="group-hover:fill-mark group-focus-visible:fill-mark fill-transparent"
          />
          <text x={x + 10} y={y + 16} class="fill-ink font-semibold"
            >{cut(party.name, partyW < partyWidth ? Math.floor(partyW / 8.4) : 32)}</text
          >
          <text x={x + 10} y={y + 30} class="fill-soft text-xs"
            >{cut(partyWords(party), partyW < partyWidth ? Math.floor(partyW / 6.4) : 60)}</text
          >
        </g>
        {#each rows as { range, y: ry, tied }, n (n)}
          <g
            role="button"
            tabindex="0"
            aria-label="{range.kind} {range.name} {range.prefix}{tied ? ', collides' : ''}"
            class="group outline-none"
            onclick={() => select(range.id)}
            onkeydown={press(() => select(range.id))}
          >
            <rect
              x={x + 1}
              y={ry}
              width={partyWidth - 2}
              height="22"
              class="group-hover:fill-mark group-focus-visible:fill-mark {selected === range.id
                ? 'fill-mark'
                : 'fill-transparent'}"
            />
            {#if tied}<rect x={x + 1} y={ry + 2} width="7" height="18" fill="url(#hatch)" />{/if}
            <text x={x + 14} y={ry + 15} class="text-sm {tied ? 'fill-clash font-semibold' : 'fill-ink'}"
              >{cut(range.name, room(range))}{range.fixed ? " (fixed)" : ""}</text
            >
            <text x={x + partyWidth - 8} y={ry + 15} text-anchor="end" class="fill-ink font-mono text-sm"
              >{range.prefix}</text
            >
          </g>
        {/each}
        {#if more}<text x={x + 14} y={y + height - 8} class="fill-soft text-xs"
            >{more} more {more === 1 ? "range" : "ranges"}</text
          >{/if}
      </g>
    {/each}

    {#each picture.ties as { tie, path }, n (n)}
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
          class="group-focus-visible:stroke-ink group-hover:stroke-ink {tie.weight === 'answered'
            ? 'stroke-good'
            : 'stroke-clash'}"
          stroke-width={tie.weight === "breaks" ? 3 : 2}
          stroke-dasharray={tie.weight === "answered" ? "2 4" : "7 3"}
        />
      </g>
    {/each}
    <!-- above all ties, so that none runs through a word -->
    {#each picture.ties as { tie, word }, n (n)}
      {#if word}
        <text
          transform="translate({word.x} {word.y}) rotate(-90)"
          text-anchor="middle"
          stroke-width="5"
          paint-order="stroke"
          class="stroke-paper pointer-events-none text-xs {tie.weight === 'answered'
            ? 'fill-good'
            : 'fill-clash'}">{tie.weight === "answered" ? "answered" : "collides"}</text
        >
      {/if}
    {/each}
  </svg>
</div>
