<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { ClipboardPaste, Plus } from "@lucide/svelte";
  import type { Edit, WalkProof } from "../api/client";
  import {
    find,
    useFindings,
    useIntent,
    useIntentList,
    useOverlaps,
    useWalk,
    writer,
    type FormQuestion,
  } from "../api/queries";
  import { kindWord, type Values } from "../lib/form";
  import { side, sideWord } from "../lib/side";
  import { recent } from "../lib/recent.svelte";
  import { freshID } from "../lib/stock";
  import { urlState } from "../lib/url.svelte";
  import FormDrawer from "./FormDrawer.svelte";
  import Known from "./Known.svelte";
  import { placeURL } from "../lib/places";
  import PasteIntents from "./PasteIntents.svelte";
  import RemovalDialog from "./RemovalDialog.svelte";
  import Suggest from "./Suggest.svelte";
  import Verdict from "./Verdict.svelte";
  import WalkMore from "./WalkMore.svelte";
  import WalkView from "./WalkView.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const intents = useIntentList(() => design);
  const overlaps = useOverlaps(() => design);
  const findings = useFindings(() => design);
  const write = writer(useQueryClient(), () => design);
  const intent = urlState("intent");
  const from = urlState("from");
  const to = urlState("to");
  const service = urlState("service");
  const filter = urlState("find");
  const asked = useWalk(
    () => design,
    () => ({ from: from.value, to: to.value, service: service.value }),
  );
  const asking = $derived(Boolean(from.value && to.value && service.value));
  const wanted = $derived(filter.value.trim().toLowerCase());
  const listed = $derived(
    (intents.data ?? []).filter((r) =>
      `${r.name} ${r.group} ${r.owner} ${r.service} ${r.cause} ${r.holds ? "holds" : "fails"}`
        .toLowerCase()
        .includes(wanted),
    ),
  );
  const row = $derived(
    asking ? undefined : (intents.data?.find((r) => r.intent === intent.value) ?? listed[0]),
  );
  const chosen = useIntent(
    () => design,
    () => row?.intent ?? "",
  );
  /** Whether what must never work is kept apart; undefined for what must work. */
  const apart = $derived(chosen.data?.never ? chosen.data.holds : undefined);
  const holding = $derived(intents.data?.filter((r) => r.holds).length ?? 0);
  let most = $state(150);

  /** The group whose remedies would fix an intent: the broken overlap that it is part of. */
  const group = $derived.by(() => {
    if (!row || row.holds) return "";
    const fixable = findings.data?.some(
      (f) => f.code === "intent" && f.subjects[0] === row.intent && (f.fixes.length > 0 || f.more),
    );
    return fixable ? (overlaps.data?.groups.find((g) => g.intents.includes(row.intent))?.key ?? "") : "";
  });

  let making = $state.raw<FormQuestion>();
  let given = $state.raw<Values>({});
  let pasting = $state(false);
  let removing = $state.raw<string[]>([]);

  function choose(id: string): void {
    from.value = to.value = service.value = "";
    intent.value = id;
  }

  // A walk of one's own.
  const walks = recent(() => `walks ${design}`);
  let start = $derived(from.value);
  let end = $derived(to.value);
  let over = $derived(service.value || "tcp/443");
  function ask(e: SubmitEvent): void {
    e.preventDefault();
    walk([start, end, over]);
  }
  function walk([a = "", b = "", s = ""]: string[]): void {
    if (!a.trim() || !b.trim() || !s.trim()) return;
    walks.add([a.trim(), b.trim(), s.trim()]);
    from.value = a.trim();
    to.value = b.trim();
    service.value = s.trim();
  }
  const ends = [
    "endpoint",
    "lan",
    "subnet",
    "inner-route",
    "site",
    "network",
    "gateway",
    "box",
    "edge-router",
    "listener",
    "internet",
  ];
  async function places(text: string) {
    const found = await find(design, text, /^[0-9a-f.:/]+$/i.test(text) && text ? [] : ends);
    return found
      .filter((f) => ends.includes(f.kind))
      .map((f) => ({
        value: f.hint.includes("/") && !f.hint.includes(" ") ? f.hint : f.id,
        label: f.title,
        hint: `${kindWord(f.kind)}, ${f.hint}`,
      }))
      .map((o) => ({ ...o, label: o.value === o.hint ? o.value : o.label }));
  }
  const services = $derived([
    ...new Set([
      ...(intents.data ?? []).map((r) => r.service).filter(Boolean),
      "tcp/443",
      "tcp/22",
      "tcp/502",
      "udp/53",
      "icmp",
    ]),
  ]);
  const serviceOptions = (text: string) =>
    services.filter((s) => s.includes(text.toLowerCase())).map((s) => ({ value: s, label: s }));

  /** The question that leads to a walk again. */
  const questionOf = (p: WalkProof) => ({
    from: p.from.id,
    to: p.to.id || p.dialled,
    service: p.service,
  });

  /** Makes the walk that is shown an intent. */
  async function keep(): Promise<void> {
    const p = asked.data;
    if (!p?.to.id) return;
    const id = freshID();
    const name = `${p.from.title} reaches ${p.to.title} on ${p.service}`.slice(0, 78);
    const object = { id, kind: "intent", name, body: { from: p.from.id, to: p.to.id, service: p.service } };
    const done = await write.change(`New intent: ${name}`, () => [{ op: "put", id, object } as Edit]);
    if (done && asked.data === p) choose(id); // unless something else is looked at by now
  }
</script>

<div class="grid h-full grid-cols-[23rem_1fr]">
  <aside class="border-line flex min-h-0 flex-col border-r" aria-label="Intents">
    <div class="flex flex-wrap items-center gap-1.5 px-3 pt-3 pb-1">
      <h2 class="w-full">
        Intents{intents.data ? `: ${holding} of ${intents.data.length} hold ${sideWord[side()]}` : ""}
      </h2>
      <button
        class="button"
        onclick={() => {
          given = {};
          making = { kind: "intent" };
        }}><Plus size={16} />Add an intent</button
      >
      <button class="button" onclick={() => (pasting = true)}><ClipboardPaste size={16} />Paste a list</button
      >
      {#if (intents.data?.length ?? 0) > 3}
        <input
          class="field"
          aria-label="Filter intents"
          placeholder="Filter: name, group, owner, service, cause, fails"
          value={filter.value}
          oninput={(e) => filter.replace(e.currentTarget.value)}
        />
        <p class="text-soft text-sm">{listed.length} of {intents.data?.length}</p>
      {/if}
    </div>
    <Known of={intents} what="The intents" />
    <div class="min-h-0 flex-1 overflow-y-auto">
      {#each listed.slice(0, most) as r, n (r.intent)}
        {#if r.group !== (listed[n - 1]?.group ?? "") && r.group}<p
            class="text-soft px-3 pt-2 text-sm font-semibold"
          >
            {r.group}
          </p>{/if}
        <button class="row" aria-current={row?.intent === r.intent} onclick={() => choose(r.intent)}>
          <span class="flex items-baseline gap-2"
            ><span class="min-w-0 break-words">{r.name}</span><span class="ml-auto"
              ><Verdict good={r.holds} word={r.holds ? "holds" : "fails"} /></span
            ></span
          >
          <span class="text-soft block text-sm"
            >{r.never ? "must never work" : r.survives ? "must work after any single failure" : "must work"}:
            <span class="font-mono">{r.service || "every service"}</span>{r.owner
              ? `, for ${r.owner}`
              : ""}</span
          >
          {#if r.cause}<span class="text-clash block text-sm">{r.cause}</span>{/if}
        </button>
      {:else}
        {#if intents.data}
          <p class="text-soft px-3 py-2">
            {intents.data.length
              ? "No intent fits that."
              : "No intents yet. Say what must talk to what: add one, paste a list, or type in Estate that one must reach another."}
          </p>
        {/if}
      {/each}
      {#if listed.length > most}<button class="button m-3" onclick={() => (most += 500)}
          >{listed.length - most} more</button
        >{/if}
    </div>
    <form
      class="border-ink bg-sheet flex flex-col gap-1.5 border-t-2 p-3"
      onsubmit={ask}
      aria-label="Walk something else"
    >
      <h2>Walk something else</h2>
      <div class="grid grid-cols-[3.5rem_1fr] items-center gap-1.5">
        <span class="label">From</span>
        <Suggest
          label="From"
          name="from"
          options={places}
          text={start}
          free
          choose={(v) => (start = v)}
          placeholder="host, party, box, the internet"
        />
        <span class="label">To</span>
        <Suggest
          label="To"
          name="to"
          options={places}
          text={end}
          free
          mono
          choose={(v) => (end = v)}
          placeholder="address, host or box"
        />
        <span class="label">Service</span>
        <Suggest
          label="Service"
          name="service"
          options={serviceOptions}
          text={over}
          free
          mono
          choose={(v) => (over = v)}
        />
      </div>
      <button class="button self-start" disabled={!start || !end || !over}>Walk it</button>
      {#if walks.list.length}
        <p class="text-soft text-sm">Walked lately</p>
        <ul class="flex max-h-24 flex-col overflow-y-auto">
          {#each walks.list as w (w.join(" "))}
            <li>
              <button
                type="button"
                class="text-link truncate text-left text-sm underline"
                onclick={() => walk(w)}>{w[0]} → {w[1]} {w[2]}</button
              >
            </li>
          {/each}
        </ul>
      {/if}
    </form>
  </aside>
  <div class="overflow-y-auto p-4">
    {#if asking}
      {#if asked.error}
        <p role="alert" class="text-clash">{asked.error.message}</p>
      {:else if asked.data}
        <p class="mb-2 flex gap-1.5">
          <button class="button" disabled={!asked.data.to.id} onclick={keep}>Keep this as an intent</button>
          <button class="button" onclick={() => choose("")}>Back to the intents</button>
        </p>
        <WalkView {design} proof={asked.data} />
        <WalkMore
          {design}
          question={{ from: from.value, to: to.value, service: service.value }}
          proof={asked.data}
        />
      {/if}
    {:else if row && chosen.data && chosen.data.intent === row.intent}
      <div class="mb-2 flex flex-wrap items-center gap-1.5">
        <h1 class="text-lg">{chosen.data.name}</h1>
        {#if !chosen.data.holds && !chosen.data.never && !group}<a
            class="button"
            href={placeURL(design, "plan", { intent: chosen.data.intent })}>Plan what makes it work</a
          >{/if}
        <button class="button ml-auto" onclick={() => (making = { object: row.intent })}>Change</button>
        <button class="button" onclick={() => (removing = [row.intent])}>Remove</button>
      </div>
      {#if chosen.data.error}
        <p role="alert" class="text-clash">{chosen.data.error}</p>
      {:else}
        {#if chosen.data.without_title}
          <p class="border-clash mb-2 border-l-4 pl-3">
            It works, and not without <strong>{chosen.data.without_title}</strong>: this is the walk when that
            has failed.
          </p>
          {#if chosen.data.failed}
            <WalkView {design} proof={chosen.data.failed} {group} {apart} />
          {/if}
          <h2 class="mt-4 mb-2 text-base">While nothing has failed</h2>
        {/if}
        {#if chosen.data.slow}<p class="border-clash mb-2 border-l-4 pl-3">{chosen.data.slow}</p>{/if}
        <WalkView {design} proof={chosen.data.proof} {group} {apart} />
        {#if chosen.data.proof.from.id && chosen.data.proof.dialled}
          <WalkMore
            {design}
            question={questionOf(chosen.data.proof)}
            proof={chosen.data.proof}
            never={chosen.data.never}
          />
        {/if}
      {/if}
    {:else if row}
      <Known of={chosen} what="The walk" />
    {:else}
      <p class="text-soft">
        Choose an intent, or walk a packet of your own: type who starts, which address they dial and on which
        service.
      </p>
    {/if}
  </div>
</div>
<FormDrawer
  {design}
  of={making}
  {given}
  close={() => (making = undefined)}
  done={(id) => {
    making = undefined;
    choose(id);
  }}
/>
<PasteIntents {design} open={pasting} close={() => (pasting = false)} />
<RemovalDialog
  {design}
  ids={removing}
  what={row?.name ?? "the intent"}
  close={() => (removing = [])}
  done={() => {
    removing = [];
    choose("");
  }}
/>
