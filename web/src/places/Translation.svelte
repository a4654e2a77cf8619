<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { Proposal } from "../api/client";
  import { useLedger, useOverlaps, useProposals, writer } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { urlState } from "../lib/url.svelte";
  import Known from "../parts/Known.svelte";
  import Ledger from "../parts/Ledger.svelte";
  import { weights } from "../lib/weights";
  import Suggest from "../parts/Suggest.svelte";
  import ProposalCard from "../parts/ProposalCard.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const overlaps = useOverlaps(() => design);
  const ledger = useLedger(() => design);
  const chosen = urlState("group");
  const address = urlState("address");
  const groups = $derived(overlaps.data?.groups ?? []);
  const group = $derived(groups.find((g) => g.key === chosen.value) ?? groups[0]);
  const proposals = useProposals(
    () => design,
    () => group?.key ?? "",
  );
  const write = writer(useQueryClient(), () => design);
  const choices = (text: string) =>
    groups
      .filter((g) =>
        `${g.span} ${g.sentence} ${weights[g.weight].word}`.toLowerCase().includes(text.trim().toLowerCase()),
      )
      .map((g) => ({ value: g.key, label: `${g.span} (${weights[g.weight].word})`, hint: g.sentence }));
  const holding = (p: Proposal) => p.before.filter((r) => r.holds).length;
  function apply(p: Proposal): void {
    chosen.value = group?.key ?? ""; // it is no longer the worst afterwards, and should stay in view
    void write.change(p.title, p.edits);
  }
</script>

<div class="flex h-full flex-col gap-4 overflow-y-auto p-4">
  <section aria-label="Remedies" class="flex flex-col gap-2">
    <div class="flex flex-wrap items-center gap-2">
      <h2>Remedies for</h2>
      {#if groups.length > 1}
        <div class="w-[36rem] max-w-full">
          <Suggest
            label="Conflict"
            text={group ? `${group.span} (${weights[group.weight].word})` : ""}
            options={choices}
            choose={(key) => (chosen.value = key)}
          />
        </div>
        <span class="text-soft text-sm">{groups.length} conflicts; {group?.sentence}</span>
      {:else if group}
        <p>{group.sentence}</p>
      {/if}
    </div>
    {#if group?.weight === "answered"}
      <p class="text-good font-semibold">
        Answered: each pair of linked parties in it has a mapping in between. The ledger below says who is
        seen as what.
      </p>
    {/if}
    {#if group?.weight !== "answered" && proposals.data?.length}
      <div class="flex max-h-[27rem] gap-3 overflow-x-auto pb-1">
        {#each proposals.data as p, n (p.key)}<ProposalCard
            {design}
            proposal={p}
            best={n === 0 && p.holding > holding(p)}
            {apply}
          />{/each}
      </div>
    {:else if group && group.weight !== "answered" && proposals.data}
      <p class="text-soft">
        No LAN in it is left to map: every one is mapped already, has no link, or there is no free range.
      </p>
    {:else if !group && overlaps.data}
      <p class="text-soft">
        No range is held by more than one party, so there is nothing to translate. <a
          href={placeURL(design, "overlaps")}>See the ranges</a
        >
      </p>
    {/if}
  </section>
  <Known of={ledger} what="The ledger" />
  {#if ledger.data}
    <Ledger {design} entries={ledger.data} address={address.value} ask={(a) => (address.value = a)} />
  {/if}
</div>
