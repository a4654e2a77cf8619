<script lang="ts">
  import { isDown, lineDash, lineTone, lineWeight, linkWords } from "../lib/linkwords";
  import type { PlacedLink } from "../lib/picture";

  interface Props {
    placed: PlacedLink;
    selected: boolean;
    dim: boolean;
    open: () => void;
  }
  const { placed, selected, dim, open }: Props = $props();
  const link = $derived(placed.link);
  const words = $derived(linkWords(link));
  const down = $derived(isDown(link));
</script>

<g
  role="button"
  tabindex="0"
  aria-label="Link {link.name}, {words.at(-1) || link.shape}"
  data-up={link.status.up}
  opacity={dim ? 0.25 : undefined}
  class="group outline-none"
  onclick={open}
  onkeydown={(e) => {
    if (e.key !== "Enter" && e.key !== " ") return;
    e.preventDefault();
    e.stopPropagation();
    open();
  }}
>
  <title>{words.filter(Boolean).join(": ") || link.name}</title>
  {#each placed.tunnels as d, n (n)}
    {@const lost = down || (link.kind === "link" && n >= link.up)}
    <path {d} fill="none" stroke="none" pointer-events="stroke" stroke-width="14" />
    <path
      {d}
      fill="none"
      data-up={!lost}
      class="group-hover:stroke-ink group-focus-visible:stroke-ink {selected
        ? 'stroke-ink'
        : lost && !down
          ? 'stroke-clash'
          : lineTone(link)}"
      stroke-width={lineWeight(link) + (selected ? 1.4 : 0)}
      stroke-dasharray={lost ? "2 6" : lineDash(link)}
    />
    {#if link.kind === "circuit"}<path {d} fill="none" class="stroke-paper" stroke-width="2.6" />{/if}
  {/each}
  {#if placed.label}
    {#each placed.label.lines as text, n (n)}
      <text
        x={placed.label.x}
        y={placed.label.y + n * 15}
        text-anchor={placed.label.anchor}
        data-label
        class={n === 0 && placed.label.lines.length > 1 ? "fill-ink text-sm" : "fill-soft text-xs"}
        >{text}</text
      >
    {/each}
  {/if}
</g>
