<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { PlanOption } from "../api/client";
  import { useLedger, useOverlaps, usePlan, writer } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { urlList, urlState } from "../lib/url.svelte";
  import { weights } from "../lib/weights";
  import Choice from "../parts/Choice.svelte";
  import Known from "../parts/Known.svelte";
  import LedgerView from "../parts/LedgerView.svelte";
  import OptionView from "../parts/OptionView.svelte";
  import PlanQuestion from "../parts/PlanQuestion.svelte";
  import PlanTable from "../parts/PlanTable.svelte";
  import { goTo, route } from "../router";

  const design = $derived(route.params.design ?? "");
  const as = urlState("as");
  const chosen = urlState("group");
  const option = urlState("option");
  const address = urlState("address");
  const places = urlList("place");
  const intents = urlList("intent");
  const keep = urlList("keep");
  const closed = urlList("closed");
  const pool = urlList("pool");
  const noBoxes = urlState("no-boxes");
  const overlaps = useOverlaps(() => design);
  const ledger = useLedger(() => design);
  const groups = $derived(overlaps.data?.groups ?? []);
  const by = $derived(places.value.length || intents.value.length ? "" : chosen.value);
  const group = $derived(
    places.value.length || intents.value.length ? undefined : (groups.find((g) => g.key === by) ?? groups[0]),
  );
  const plan = usePlan(
    () => design,
    () => ({
      group: group && group.weight !== "answered" ? group.key : undefined,
      place: places.value,
      intent: intents.value,
      keep: keep.value,
      closed: closed.value,
      pool: pool.value,
      no_boxes: noBoxes.value === "yes",
    }),
  );
  const write = writer(useQueryClient(), () => design);
  const options = $derived(plan.data?.options ?? []);
  const colliding = $derived([
    ...new Set(groups.filter((g) => g.weight !== "answered").flatMap((g) => g.claims.map((c) => c.party))),
  ]);
  const shown = $derived(options.find((o) => o.key === option.value) ?? options[0]);
  const choices = (text: string) =>
    groups
      .filter((g) =>
        `${g.span} ${g.sentence} ${weights[g.weight].word}`.toLowerCase().includes(text.trim().toLowerCase()),
      )
      .map((g) => ({ value: g.key, label: `${g.span} (${weights[g.weight].word})`, hint: g.sentence }));
  function apply(o: PlanOption): void {
    if (group) chosen.value = group.key; // it is no longer the worst afterwards, and should stay in view
    void write.change(o.title, o.edits);
  }
</script>

<div class="flex h-full flex-col">
  <div class="border-line flex flex-wrap items-center gap-2 border-b px-3 py-1.5">
    <Choice
      label="Shown"
      options={[
        { key: "", word: "Remedies" },
        { key: "ledger", word: "Ledger" },
      ]}
      value={as.value}
      choose={(key) =>
        goTo(design, "translation", key ? { as: key } : chosen.value ? { group: chosen.value } : {})}
    />
    {#if as.value !== "ledger"}
      <PlanQuestion
        {design}
        {group}
        {choices}
        choose={(key) => {
          option.value = "";
          chosen.value = key;
        }}
        {places}
        {intents}
        {keep}
        {closed}
        {pool}
        {noBoxes}
        parties={overlaps.data?.parties ?? []}
        {colliding}
        titles={Object.fromEntries((overlaps.data?.claims ?? []).map((c) => [c.owner, c.title]))}
      />
    {/if}
  </div>
  {#if as.value === "ledger"}
    <Known of={ledger} what="The ledger" />
    {#if ledger.data}
      <LedgerView {design} ledger={ledger.data} address={address.value} ask={(a) => (address.value = a)} />
    {/if}
  {:else}
    <div class="min-h-0 flex-1 overflow-y-auto" role="region" aria-label="Remedies">
      {#if group}
        <p class="px-3 pt-2">{group.sentence}.</p>
      {/if}
      {#if group?.weight === "answered"}
        <p class="text-good px-3 py-2 font-semibold">
          Answered: whoever could meet is kept apart by a translation, or by what is kept out of export.
          <a href={placeURL(design, "translation", { as: "ledger" })}>The ledger</a> says who is seen as what.
        </p>
      {:else if !group && !places.value.length && !intents.value.length && overlaps.data}
        <p class="text-soft px-3 py-2">
          No range is held by more than one party, so there is nothing to translate. <a
            href={placeURL(design, "overlaps")}>See the ranges</a
          >
        </p>
      {:else}
        <Known of={plan} what="The remedies, each proven" />
        {#if plan.data && options.length === 0}
          <p class="text-soft px-3 py-2">
            No remedy applies{plan.data.excluded.length ? `: ${plan.data.excluded.join("; ")}` : ""}.
          </p>
        {/if}
        {#if plan.data && shown}
          <PlanTable plan={plan.data} shown={shown.key} show={(key) => (option.value = key)} {apply} />
          <OptionView {design} plan={plan.data} option={shown} {apply} />
        {/if}
      {/if}
    </div>
  {/if}
</div>
