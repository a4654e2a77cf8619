<script lang="ts">
  import type { Snippet } from "svelte";
  import { useEstate } from "../api/queries";
  import type { PlacedParty } from "../lib/picture";
  import { goTo } from "../router";
  import Known from "./Known.svelte";
  import PictureView from "./PictureView.svelte";

  interface Props {
    design: string;
    /** The parties and joints that are spoken of. */
    lit: Set<string>;
    /** What is drawn over the parties. */
    over: Snippet<[PlacedParty[]]>;
    bare?: boolean;
  }
  const { design, lit, over, bare = false }: Props = $props();
  const estate = useEstate(() => design);
  /** In a small picture only those that are spoken of are drawn, so that they are in sight and can be read. */
  const drawn = $derived.by(() => {
    const all = estate.data;
    const parties = all?.parties.filter((p) => lit.has(p.id)) ?? [];
    if (!all || !bare || !parties.length) return all;
    const links = all.links.filter((l) => lit.has(l.a) && lit.has(l.b));
    return { ...all, parties, links, ties: [] };
  });
</script>

<!-- The estate with something drawn over it; what is chosen opens elsewhere. -->
<Known of={estate} what="The picture" />
{#if drawn}
  <PictureView
    estate={drawn}
    selected=""
    select={(id) => goTo(design, "estate", { sel: id })}
    openGroup={(group) => goTo(design, "overlaps", { group })}
    openLink={(id) => goTo(design, "links", { link: id })}
    {lit}
    {over}
    {bare}
  />
{/if}
