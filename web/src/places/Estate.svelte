<script lang="ts">
  import { useEstate, useStock, type FormQuestion } from "../api/queries";
  import { urlState } from "../lib/url.svelte";
  import AddMenu from "../parts/AddMenu.svelte";
  import Begin from "../parts/Begin.svelte";
  import Choice from "../parts/Choice.svelte";
  import FormDrawer from "../parts/FormDrawer.svelte";
  import Known from "../parts/Known.svelte";
  import ImportView from "../parts/ImportView.svelte";
  import PictureView from "../parts/PictureView.svelte";
  import SayBox from "../parts/SayBox.svelte";
  import SheetView from "../parts/SheetView.svelte";
  import TakeOut from "../parts/TakeOut.svelte";
  import StockTable from "../parts/StockTable.svelte";
  import { goTo, route } from "../router";

  const design = $derived(route.params.design ?? "");
  const estate = useEstate(() => design);
  const selected = urlState("sel");
  const as = urlState("as");
  const stock = useStock(
    () => design,
    () => as.value === "table",
  );
  const from = urlState("from");
  const select = (id: string) => (selected.value = id);
  const fromParty = $derived(estate.data?.parties.find((x) => x.id === from.value));
  /** Opens a sheet, or, while the other end of a link is looked for, goes on to the draft. */
  function pick(id: string): void {
    const party = estate.data?.parties.find((x) => x.id === id || x.ranges.some((r) => r.id === id));
    if (fromParty && party && party.id !== fromParty.id && party.kind !== "outside")
      goTo(design, "plan", { party: `${fromParty.id},${party.id}` });
    else select(id);
  }
  const openLink = (id: string) => goTo(design, "links", { link: id });
  const openGroup = (group: string) => goTo(design, "overlaps", { group });
  let making = $state.raw<FormQuestion>();
  const empty = $derived(estate.data?.parties.length === 0);
  const modes = [
    { key: "", word: "Picture" },
    { key: "table", word: "Table" },
    { key: "import", word: "Bring in" },
  ];
</script>

<div class="flex h-full">
  <div class="flex min-w-0 flex-1 flex-col">
    <div class="border-line flex items-center gap-1.5 border-b px-3 py-1.5">
      <Choice label="Shown as" options={modes} value={as.value} choose={(key) => (as.value = key)} />
      <AddMenu add={(kind) => (making = { kind })} />
      <div id="picture-tools" class="flex flex-1 items-center gap-1.5 text-sm"></div>
      <TakeOut {design} />
    </div>
    {#if as.value !== "import"}<SayBox {design} it={selected.value} {empty} />{/if}
    {#if fromParty}
      <p class="bg-mark flex items-center gap-3 px-3 py-1.5" role="status">
        <strong>{fromParty.name}</strong> must talk with whom? Choose the other party.
        <button class="button" onclick={() => goTo(design, "plan", { party: fromParty.id })}
          >Choose from a list</button
        >
        <button class="button" onclick={() => (from.value = "")}>Never mind</button>
      </p>
    {/if}
    {#if as.value === "table"}<Known of={stock} what="The table" />{:else if as.value !== "import"}<Known
        of={estate}
        what="The picture"
      />{/if}
    <div class="min-h-0 flex-1">
      {#if as.value === "import"}
        <ImportView {design} done={() => (as.value = "table")} />
      {:else if as.value === "table"}
        {#if stock.data}<StockTable
            {design}
            stock={stock.data}
            open={pick}
            plan={(ids) => goTo(design, "plan", { party: ids.join(",") })}
          />{/if}
      {:else if estate.data?.parties.length}
        <PictureView estate={estate.data} selected={selected.value} select={pick} {openGroup} {openLink} />
      {:else if estate.data}
        <Begin add={(kind) => (making = { kind })} bring={() => (as.value = "import")} />
      {/if}
    </div>
  </div>
  {#if selected.value}
    <aside class="border-ink bg-sheet w-[25rem] shrink-0 overflow-y-auto border-l-2" aria-label="Sheet">
      <SheetView {design} id={selected.value} {select} plan={(id) => (from.value = id)} />
    </aside>
  {/if}
</div>
<FormDrawer
  {design}
  of={making}
  close={() => (making = undefined)}
  done={(made) => {
    making = undefined;
    select(made);
  }}
/>
