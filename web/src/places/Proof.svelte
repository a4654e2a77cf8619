<script lang="ts">
  import { useFindings, useIntents, useOverlaps, useWalk } from "../api/queries";
  import { horizon, horizonWord } from "../lib/horizon";
  import { urlState } from "../lib/url.svelte";
  import Known from "../parts/Known.svelte";
  import Verdict from "../parts/Verdict.svelte";
  import WalkView from "../parts/WalkView.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const intents = useIntents(() => design);
  const overlaps = useOverlaps(() => design);
  const findings = useFindings(() => design);
  const intent = urlState("intent");
  const from = urlState("from");
  const to = urlState("to");
  const service = urlState("service");
  const asked = useWalk(
    () => design,
    () => ({ from: from.value, to: to.value, service: service.value }),
  );
  const asking = $derived(Boolean(from.value && to.value && service.value));
  const chosen = $derived(
    asking ? undefined : (intents.data?.find((r) => r.intent === intent.value) ?? intents.data?.[0]),
  );
  const holding = $derived(intents.data?.filter((r) => r.holds).length ?? 0);

  /** The group whose remedies would mend an intent: the broken overlap that it is part of. */
  const group = $derived.by(() => {
    if (!chosen || chosen.holds) return "";
    const mendable = findings.data?.some(
      (f) => f.code === "intent" && f.subjects[0] === chosen.intent && (f.mends.length > 0 || f.more),
    );
    return mendable ? (overlaps.data?.groups.find((g) => g.intents.includes(chosen.intent))?.key ?? "") : "";
  });

  function choose(id: string): void {
    from.value = to.value = service.value = "";
    intent.value = id;
  }
  function ask(e: SubmitEvent): void {
    e.preventDefault();
    const form = new FormData(e.currentTarget as HTMLFormElement);
    for (const [field, state] of [
      ["from", from],
      ["to", to],
      ["service", service],
    ] as const)
      state.value = String(form.get(field)).trim();
  }
</script>

<div class="grid h-full grid-cols-[22rem_1fr]">
  <aside class="border-line flex flex-col overflow-y-auto border-r">
    <h2 class="px-3 pt-3 pb-1">
      Intents{intents.data ? `: ${holding} of ${intents.data.length} hold ${horizonWord[horizon()]}` : ""}
    </h2>
    <Known of={intents} what="The intents" />
    {#each intents.data ?? [] as r (r.intent)}
      <button class="row" aria-current={chosen?.intent === r.intent} onclick={() => choose(r.intent)}>
        <span class="flex items-baseline gap-2"
          >{r.name}<span class="ml-auto"><Verdict good={r.holds} word={r.holds ? "holds" : "fails"} /></span
          ></span
        >
        <span class="text-soft text-sm"
          >{r.never ? "must never work" : "must work"}: <span class="font-mono">{r.proof.service}</span> to
          <span class="font-mono">{r.proof.dialled}</span></span
        >
      </button>
    {:else}
      {#if intents.data}
        <p class="text-soft px-3 py-2">No intents yet. Say in the design file what must talk to what.</p>
      {/if}
    {/each}
    <form class="flex flex-col gap-1.5 p-3" onsubmit={ask}>
      <h2>Walk something else</h2>
      <label class="label" for="from">From (party, LAN or host)</label>
      <input
        id="from"
        name="from"
        class="field"
        value={from.value}
        placeholder="marrow-hill/data-room"
        required
      />
      <label class="label" for="to">To (address or host)</label>
      <input
        id="to"
        name="to"
        class="field font-mono"
        value={to.value}
        placeholder="192.168.216.17"
        required
      />
      <label class="label" for="service">Service</label>
      <input
        id="service"
        name="service"
        class="field font-mono"
        value={service.value || "tcp/502"}
        required
      />
      <button class="button self-start">Walk it</button>
    </form>
  </aside>
  <div class="overflow-y-auto p-4">
    {#if asking}
      {#if asked.error}
        <p role="alert" class="text-clash">{asked.error.message}</p>
      {:else if asked.data}
        <WalkView {design} proof={asked.data} />
      {/if}
    {:else if chosen?.error}
      <p role="alert" class="text-clash">{chosen.error}</p>
    {:else if chosen}
      <h1 class="mb-2 text-lg">{chosen.name}</h1>
      <WalkView {design} proof={chosen.proof} {group} />
    {:else}
      <p class="text-soft">
        Choose an intent, or walk a packet of your own: type who starts, which address they dial and on which
        service.
      </p>
    {/if}
  </div>
</div>
