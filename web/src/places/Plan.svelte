<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { PlanOption, PlanStep } from "../api/client";
  import { designKey, useEstate, useIntentList, useOverlaps, usePlan, writer } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { urlList, urlState } from "../lib/url.svelte";
  import { weights } from "../lib/weights";
  import Known from "../parts/Known.svelte";
  import OptionView from "../parts/OptionView.svelte";
  import PlanQuestion from "../parts/PlanQuestion.svelte";
  import PlanTable from "../parts/PlanTable.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const chosen = urlState("group");
  const option = urlState("option");
  const parties = urlList("party");
  const intents = urlList("intent");
  const keep = urlList("keep");
  const closed = urlList("closed");
  const pool = urlList("pool");
  const by = urlList("by");
  const noBoxes = urlState("no-boxes");
  const wish = urlState("wish");
  const budget = urlState("budget");
  const queries = useQueryClient();
  const write = writer(queries, () => design);
  const estate = useEstate(() => design);
  const overlaps = useOverlaps(() => design);
  const listed = useIntentList(() => design);
  const groups = $derived(overlaps.data?.groups ?? []);
  const group = $derived(chosen.value ? groups.find((g) => g.key === chosen.value) : undefined);
  const titles = $derived(
    Object.fromEntries((overlaps.data?.claims ?? []).map((c) => [c.owner, c.title])) as Record<
      string,
      string
    >,
  );
  const known = $derived(
    (estate.data?.parties ?? [])
      .filter((p) => p.kind !== "outside")
      .map((p) => ({ id: p.id, name: p.name, owner: p.owner || undefined })),
  );
  const colliding = $derived([
    ...new Set(groups.filter((g) => g.weight !== "answered").flatMap((g) => g.claims.map((c) => c.party))),
  ]);
  let step = $state.raw<PlanStep>();
  let broken = $state(false);
  const ask = $derived({
    group: parties.value.length || intents.value.length ? undefined : group?.key,
    party: parties.value.length > 1 || intents.value.length === 0 ? parties.value : undefined,
    intent: intents.value.length ? intents.value : undefined,
    keep: keep.value,
    closed: closed.value,
    pool: pool.value,
    by: by.value,
    wish: (wish.value || undefined) as "cheapest" | undefined,
    budget: budget.value || undefined,
    no_boxes: noBoxes.value === "yes" || undefined,
  });
  const asked = $derived(Boolean(ask.group ?? (ask.party?.length || ask.intent?.length)));
  const plan = usePlan(
    () => design,
    () => ask,
    (now) => (step = now),
  );
  $effect(() => {
    void ask;
    broken = false;
    step = undefined;
  });
  const options = $derived(plan.data?.options ?? []);
  const shown = $derived(options.find((o) => o.key === option.value) ?? options[0]);
  const worst = $derived(groups.filter((g) => g.weight !== "answered").slice(0, 6));
  const failing = $derived((listed.data ?? []).filter((i) => !i.holds && !i.never).slice(0, 8));
  const nameOf = (id: string) => known.find((p) => p.id === id)?.name ?? titles[id] ?? "";
  const fewest = 4;

  let applied = $state.raw<PlanOption>();
  async function apply(o: PlanOption): Promise<void> {
    if (await write.change(o.title, o.edits, true)) applied = o;
  }
  function breakOff(): void {
    broken = true;
    void queries.cancelQueries({ queryKey: [...designKey(design), "plan"] });
  }
</script>

<div class="flex h-full flex-col">
  <div class="border-line flex flex-wrap items-center gap-2 border-b px-3 py-1.5">
    <PlanQuestion
      {design}
      {group}
      leaveGroup={() => (chosen.value = "")}
      {parties}
      {intents}
      {keep}
      {closed}
      {pool}
      {by}
      {noBoxes}
      {wish}
      {budget}
      {known}
      {colliding}
      {titles}
    />
  </div>
  <div class="min-h-0 flex-1 overflow-y-auto" role="region" aria-label="Options">
    {#if applied}
      <p class="text-good px-3 pt-2 font-semibold" role="status">
        Applied: {applied.title}.
        {#each applied.joints.slice(0, 3) as j (j.id)}
          <a href={placeURL(design, "links", { link: j.id })}>The sheet of {j.name}</a>,
        {/each}
        <a href={placeURL(design, "handover")}>hand it over</a>,
        <a href={placeURL(design, "proof")}>see it proven</a>, or undo it with Ctrl-Z.
      </p>
    {/if}
    {#if !asked}
      <div class="max-w-4xl p-4">
        <h2 class="text-lg">Who must talk?</h2>
        <p class="mt-1 mb-3">
          Name parties above, or take one of these. Dravin joins what is not joined, enters what tables lack
          and translates what collides: complete options side by side, each proven before it is shown.
        </p>
        {#if parties.value.length === 1}<p class="text-warn mb-3">Name one more party.</p>{/if}
        {#if failing.length}
          <h3>Must talk, and does not</h3>
          <ul class="mb-3">
            {#each failing as i (i.intent)}
              <li>
                <button
                  class="row w-full text-left"
                  onclick={() => {
                    parties.value = [];
                    intents.value = [i.intent];
                  }}
                  ><span class="text-clash font-mono" aria-hidden="true">✗</span>
                  {i.name}</button
                >
              </li>
            {/each}
          </ul>
          {#if failing.length > 1}
            <button
              class="button button-main mb-3"
              onclick={() => {
                parties.value = [];
                intents.value = (listed.data ?? [])
                  .filter((i) => !i.holds && !i.never)
                  .map((i) => i.intent)
                  .slice(0, 200);
              }}>All that do not hold, in one plan</button
            >
          {/if}
        {/if}
        {#if worst.length}
          <h3>Ranges that collide</h3>
          <ul>
            {#each worst as g (g.key)}
              <li>
                <button class="row w-full text-left" onclick={() => (chosen.value = g.key)}
                  ><span class="font-mono">{g.span}</span>
                  <span class={weights[g.weight].tone}>{weights[g.weight].word}</span>
                  <span class="text-soft block truncate text-sm" title={g.sentence}>{g.sentence}</span
                  ></button
                >
              </li>
            {/each}
          </ul>
        {/if}
      </div>
    {:else}
      {#if group && !parties.value.length && !intents.value.length}
        <p class="px-3 pt-2">{group.sentence}.</p>
        {#if group.weight === "answered"}
          <p class="text-good px-3 py-1 font-semibold">
            Answered: whoever could meet is kept apart by a translation, or by what is kept out of export.
            <a href={placeURL(design, "ledger")}>The ledger</a> says who is seen as what.
          </p>
        {/if}
      {/if}
      {#if plan.isFetching}
        <p class="bg-mark flex flex-wrap items-center gap-3 px-3 py-2" role="status" data-testid="progress">
          {#if step?.waiting}
            {step.waiting === 1 ? "Next in the queue" : `Place ${step.waiting} in the queue`}: only a few
            plans are worked out at once.
          {:else}
            <span
              >{step?.answers ?? 0}
              {step?.answers === 1 ? "answer" : "answers"} of {step?.options ?? 0} options so far.</span
            >
            <span class="text-soft min-w-0 truncate">{step?.doing ?? "Looking at what must talk"}</span>
          {/if}
          <button class="button ml-auto" onclick={breakOff}>Break it off</button>
        </p>
      {:else if broken && !plan.data}
        <p class="px-3 py-2">
          Broken off; nothing was changed.
          <button class="button" onclick={() => void plan.refetch()}>Plan again</button>
        </p>
      {:else if plan.error}
        <Known of={plan} what="The plan" />
      {/if}
      {#if plan.data}
        {#if plan.data.stands}<p class="text-soft px-3 pt-2">{plan.data.stands}</p>{/if}
        {#if plan.data.apart.length}
          <p class="px-3 pt-1">
            Not joined yet: {plan.data.apart
              .slice(0, fewest)
              .map(([a, b]) => `${nameOf(a ?? "")} and ${nameOf(b ?? "")}`)
              .join("; ")}{plan.data.apart.length > fewest
              ? `; and ${plan.data.apart.length - fewest} more pairs`
              : ""}.
          </p>
        {/if}
        {#if options.length === 0}
          <p class="text-soft px-3 py-2">
            Nothing could be made of it{plan.data.excluded.length
              ? `: ${plan.data.excluded.slice(0, 8).join("; ")}`
              : ""}.
          </p>
        {/if}
        {#if shown}
          <PlanTable plan={plan.data} shown={shown.key} show={(key) => (option.value = key)} {apply} />
          <OptionView {design} plan={plan.data} option={shown} {apply} />
        {/if}
      {/if}
    {/if}
  </div>
</div>
