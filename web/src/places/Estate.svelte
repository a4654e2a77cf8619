<script lang="ts">
  import { useEstate } from "../api/queries";
  import { urlState } from "../lib/url.svelte";
  import PictureView from "../parts/PictureView.svelte";
  import SheetView from "../parts/SheetView.svelte";
  import { goTo, route } from "../router";

  const design = $derived(route.params.design ?? "");
  const estate = useEstate(() => design);
  const selected = urlState("sel");
  const select = (id: string) => (selected.value = id);
  const openGroup = (group: string) => goTo(design, "overlaps", { group });
</script>

<div class="flex h-full">
  <div class="min-w-0 flex-1">
    {#if estate.data?.parties.length}
      <PictureView estate={estate.data} selected={selected.value} {select} {openGroup} />
    {:else if estate.data}
      <p class="p-8">
        Nothing here yet. Bring an estate in as a design file, from <a href="/">the list of designs</a>.
      </p>
    {/if}
  </div>
  {#if selected.value}
    <aside class="border-ink bg-sheet w-[25rem] shrink-0 overflow-y-auto border-l-2" aria-label="Sheet">
      <SheetView {design} id={selected.value} {select} />
    </aside>
  {/if}
</div>
