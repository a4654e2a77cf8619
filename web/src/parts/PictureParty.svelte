<script lang="ts">
  import type { PlacedParty } from "../lib/picture";

  interface Props {
    placed: PlacedParty;
    selected: string;
    /** It has nothing to do with what is selected. */
    dim: boolean;
    /** Near enough for its ranges to be read. */
    near: boolean;
    select: (id: string) => void;
    /** Opens a stack. */
    unfold: (id: string) => void;
  }
  const { placed, selected, dim, near, select, unfold }: Props = $props();
  const party = $derived(placed.party);
  const stack = $derived(party.members.length > 1);

  const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
  const press = (act: () => void) => (e: KeyboardEvent) => {
    if (e.key === "Enter" || e.key === " ") {
      e.preventDefault();
      e.stopPropagation();
      act();
    }
  };
  /** How many letters of a range's name fit beside its prefix. */
  const room = (r: { prefix: string; fixed?: boolean }): number =>
    Math.max(6, Math.floor((placed.width - 30 - r.prefix.length * 7.8) / 6.8) - (r.fixed ? 8 : 0));
  const marks = {
    broken: { sign: "×", word: "broken", tone: "fill-clash" },
    risk: { sign: "!", word: "at risk", tone: "fill-warn" },
  };
  const mark = $derived(party.worst === "well" ? undefined : marks[party.worst]);
  const what = $derived(
    party.where || (party.kind === "outside" ? "outside party" : party.kind.replace("-", " ")),
  );
  const words = $derived(
    stack
      ? [what, party.owner, `${party.members.reduce((n, m) => n + m.ranges.length, 0)} ranges`]
          .filter(Boolean)
          .join(", ")
      : party.gateways
        ? `${what}, ${party.gateways} ${party.gateways === 1 ? "gateway" : "gateways"}`
        : what,
  );
  const act = $derived(() => (stack ? unfold(party.id) : select(party.id)));
  const slim = $derived(placed.width < 200);
</script>

<g opacity={dim ? 0.35 : undefined} data-party={party.id}>
  {#if stack}
    {#each [8, 4] as off (off)}
      <rect
        x={placed.x + off}
        y={placed.y + off}
        width={placed.width}
        height={placed.height}
        class="fill-sheet stroke-rule"
      />
    {/each}
  {/if}
  <rect
    x={placed.x}
    y={placed.y}
    width={placed.width}
    height={placed.height}
    class="fill-sheet {selected === party.id ? 'stroke-ink' : 'stroke-rule'}"
    stroke-width={selected === party.id ? 2.5 : 1}
  />
  <g
    role="button"
    tabindex="0"
    aria-label="{stack ? 'stack of' : party.kind} {party.name}{mark ? `, ${mark.word}` : ''}"
    aria-expanded={stack ? false : undefined}
    class="group outline-none"
    onclick={act}
    onkeydown={press(act)}
  >
    <rect
      x={placed.x}
      y={placed.y}
      width={placed.width}
      height="34"
      class="group-hover:fill-mark group-focus-visible:fill-mark fill-transparent"
    />
    <text x={placed.x + 10} y={placed.y + 16} class="fill-ink font-semibold"
      >{cut(party.name, slim ? Math.floor(placed.width / 8.4) - (mark ? 2 : 0) : 30)}</text
    >
    <text x={placed.x + 10} y={placed.y + 30} class="fill-soft text-xs"
      >{cut(words, slim ? Math.floor(placed.width / 6.4) : 60)}</text
    >
    {#if mark}
      <text
        x={placed.x + placed.width - 9}
        y={placed.y + 17}
        text-anchor="end"
        class="font-mono font-semibold {mark.tone}">{mark.sign}</text
      >
    {/if}
  </g>
  {#if near}
    {#each placed.rows as { range, y, tied }, n (n)}
      <g
        role="button"
        tabindex="0"
        aria-label="{range.kind} {range.name} {range.prefix}{tied ? ', collides' : ''}"
        class="group outline-none"
        onclick={() => (stack ? act() : select(range.id))}
        onkeydown={press(() => (stack ? act() : select(range.id)))}
      >
        <rect
          x={placed.x + 1}
          {y}
          width={placed.width - 2}
          height="22"
          class="group-hover:fill-mark group-focus-visible:fill-mark {selected === range.id
            ? 'fill-mark'
            : 'fill-transparent'}"
        />
        {#if tied}<rect x={placed.x + 1} y={y + 2} width="7" height="18" fill="url(#hatch)" />{/if}
        <text x={placed.x + 14} y={y + 15} class="text-sm {tied ? 'fill-clash font-semibold' : 'fill-ink'}"
          >{cut(range.name, room(range))}{range.fixed ? " (stays)" : ""}</text
        >
        <text x={placed.x + placed.width - 8} y={y + 15} text-anchor="end" class="fill-ink font-mono text-sm"
          >{range.prefix}</text
        >
      </g>
    {/each}
    {#if placed.more}<text x={placed.x + 14} y={placed.y + placed.height - 8} class="fill-soft text-xs"
        >{placed.more} more {placed.more === 1 ? "range" : "ranges"}</text
      >{/if}
  {/if}
</g>
