<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { Play, Square } from "@lucide/svelte";
  import { positionOf, type Estate, type RehearsalEvent, type Rehearsing } from "../api/client";
  import { complain, designKey, useDesign, useEstate } from "../api/queries";
  import {
    cancelRehearsal,
    captureURL,
    followRehearsal,
    goesOn,
    rehearse,
    useRehearsals,
  } from "../api/rehearsal";
  import { side } from "../lib/side";
  import { placeURL } from "../lib/places";
  import { checkWords, comingUp, logs, rehearsalWord } from "../lib/rehearsal";
  import { urlState } from "../lib/url.svelte";
  import { goTo } from "../router";
  import Known from "./Known.svelte";
  import PictureView from "./PictureView.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const queries = useQueryClient();
  const state_ = useDesign(() => design);
  const all = useRehearsals(() => design);
  const estate = useEstate(() => design);
  const chosen = urlState("rehearsal");
  const box = urlState("box");
  const part = urlState("part");

  const stepwise = urlState("steps");
  const steps = $derived(stepwise.value !== "");
  let drills = $state(1);
  let asking = $state(false);

  const listed = $derived(all.data?.list ?? []);
  const id = $derived(Number(chosen.value) || (listed[0]?.id ?? 0));
  let seen = $state.raw<Rehearsing>();
  /** What is looked at is known better than what was listed a while ago. */
  const list = $derived(listed.map((r) => (r.id === seen?.id ? seen : r)));
  let events = $state.raw<RehearsalEvent[]>([]);
  let wrong = $state("");
  $effect(() => {
    const [d, n] = [design, id];
    [seen, events, wrong] = [undefined, [], ""];
    if (!n) return;
    const stop = new AbortController();
    followRehearsal(d, n, (r, e) => ([seen, events] = [r, e]), stop.signal).catch((e: unknown) => {
      if (!stop.signal.aborted) wrong = e instanceof Error ? e.message : "The rehearsal can not be looked at";
    });
    return () => stop.abort();
  });

  async function begin(): Promise<void> {
    asking = true;
    try {
      const r = await rehearse(design, {
        base: positionOf(state_.data) ?? state_.data?.position ?? 0,
        side: side(),
        steps,
        drills,
        sample: 200,
      });
      chosen.value = String(r.id);
    } catch (error) {
      complain(error);
    }
    asking = false;
    await queries.invalidateQueries({ queryKey: [...designKey(design), "rehearsals"] });
  }
  async function end(): Promise<void> {
    try {
      await cancelRehearsal(design, id);
    } catch (error) {
      complain(error);
    }
    await queries.invalidateQueries({ queryKey: [...designKey(design), "rehearsals"] });
  }

  const playing = $derived(seen !== undefined && goesOn(seen.state));
  const now = $derived(comingUp(events));
  const report = $derived(seen?.report);
  const differ = $derived(report?.checks.filter((c) => !c.same) ?? []);
  const kinds = $derived(checkWords(report?.checks ?? []));
  const boxes = $derived(logs(events));
  const log = $derived(boxes.find((b) => b.name === box.value) ?? boxes[0]);
  /** The picture with what carries by now, instead of what is proven. */
  const alive = $derived.by((): Estate | undefined => {
    const e = estate.data;
    if (!e || !events.length) return e;
    const links = e.links.map((l) => {
      if (l.kind !== "link" && l.kind !== "circuit") return l;
      const up = now.joints.get(l.id) ?? 0;
      return {
        ...l,
        up: l.kind === "link" ? up : l.up,
        status: up ? { up: true } : { up: false, why: "it does not carry yet" },
      };
    });
    return { ...e, links };
  });
  const when = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });
  const parts = [
    ["", "Picture"],
    ["report", "Proof and rehearsal"],
    ["log", "Log by box"],
  ] as const;
  const shown = $derived(part.value || (report ? "report" : ""));
</script>

<div class="grid h-full grid-cols-[20rem_1fr]">
  <aside class="border-line flex min-h-0 flex-col overflow-y-auto border-r" aria-label="Rehearsals">
    <div class="px-3 pt-3 pb-2">
      <h2>Run it for real</h2>
      <p class="text-soft text-sm">
        Every box gets its files and real daemons, in namespaces of this server. Nothing leaves it, and
        nothing is left of it.
      </p>
      <Known of={all} what="Rehearsals" />
      {#if all.data?.possible}
        <p class="text-warn mt-2 text-sm" role="status">
          This server can not rehearse: {all.data.possible}. Run this where it can:
        </p>
        <pre class="bg-mark mt-1 px-2 py-1 font-mono text-sm wrap-anywhere whitespace-pre-wrap">{all.data
            .command}</pre>
      {:else if all.data}
        <label class="mt-2 flex items-baseline gap-1.5 text-sm"
          ><input
            type="checkbox"
            checked={steps}
            onchange={(e) => (stepwise.value = e.currentTarget.checked ? "yes" : "")}
          />Begin today, and do the runbook's steps</label
        >
        <label class="mt-1 flex items-center gap-1.5 text-sm"
          >Drills <input class="field w-16" type="number" min="0" max="5" bind:value={drills} /></label
        >
        <button class="button mt-2" onclick={begin} disabled={asking || playing || !state_.data}
          ><Play size={16} />Rehearse
          {steps ? "the steps" : side() === "built" ? "today" : "when built"}</button
        >
      {/if}
    </div>
    {#each list as r (r.id)}
      <button class="row" aria-current={r.id === id} onclick={() => (chosen.value = String(r.id))}>
        {when.format(new Date(r.asked_at))}
        <span class="text-soft text-sm"
          >{r.steps ? "steps" : r.side === "built" ? "today" : "when built"}</span
        >
        <span class="block text-sm {rehearsalWord(r).tone}">{rehearsalWord(r).text}</span>
      </button>
    {/each}
  </aside>
  <div class="flex min-h-0 min-w-0 flex-col">
    {#if wrong}<p role="alert" class="text-clash p-4">{wrong}</p>{/if}
    {#if seen}
      <div class="border-line flex flex-wrap items-center gap-2 border-b px-4 py-2" role="status">
        <span class="font-semibold {rehearsalWord(seen).tone}">{rehearsalWord(seen).text}</span>
        {#if playing}
          <span class="text-soft text-sm">{now.step}</span>
          <span class="text-sm"
            >{now.tunnels} tunnels and {now.sessions} sessions up, {now.boxes} boxes booted</span
          >
          <button class="button" onclick={end}><Square size={16} />Cancel</button>
        {:else if report}
          <span class="text-soft text-sm"
            >{report.parties} parties in {report.nodes} namespaces, {Math.round(report.seconds)} s, {report.memory_mib}
            MiB</span
          >
        {/if}
        <span class="ml-auto flex gap-1.5" role="group" aria-label="What is shown">
          {#each parts as [key, word] (key)}
            <button
              class="button {shown === key ? 'border-ink font-semibold' : ''}"
              aria-pressed={shown === key}
              onclick={() => (part.value = key || (report ? "picture" : ""))}>{word}</button
            >
          {/each}
        </span>
      </div>
      {#if seen.why}<p class="text-warn px-4 py-2">{seen.why}</p>{/if}
      {#if shown === "report"}
        <div class="min-h-0 flex-1 overflow-y-auto p-4">
          {#if !report}
            <p class="text-soft">The report is there when the rehearsal has come to its end.</p>
          {:else}
            <table class="mb-4 w-full text-sm">
              <thead
                ><tr class="text-soft text-left"><th>Held</th><th>Same</th><th>Differ</th><th></th></tr
                ></thead
              >
              <tbody>
                {#each kinds as k (k.kind)}
                  <tr class="border-line border-t">
                    <td class="py-1">{k.title}</td><td>{k.same}</td>
                    <td class={k.differ ? "text-clash font-semibold" : ""}
                      >{k.differ ? `× ${k.differ}` : "0"}</td
                    >
                    <td class="text-soft">{k.doc}</td>
                  </tr>
                {/each}
              </tbody>
            </table>
            {#if differ.length}
              <h2>{report.means} Send us what the command line writes with --out.</h2>
            {:else}
              <p class="text-good font-semibold">✓ Proof and rehearsal say the same of all of it.</p>
            {/if}
            {#each differ as c, n (n)}
              <section class="panel border-l-clash mt-2 border-l-4 px-4 py-2">
                <p>
                  <span class="text-soft text-sm">{c.kind}</span>
                  {c.name}{c.without ? `, ${c.kind === "drill" ? "without " : ""}${c.without}` : ""}
                </p>
                <dl class="grid grid-cols-[6rem_1fr] text-sm">
                  <dt class="text-soft">Proof</dt>
                  <dd>{c.proof}</dd>
                  <dt class="text-soft">Rehearsed</dt>
                  <dd>{c.rehearsed}</dd>
                </dl>
              </section>
            {/each}
            {#if report.intents.length}
              <h2 class="mt-4">Intents</h2>
              <table class="w-full text-sm">
                <thead
                  ><tr class="text-soft text-left"><th>Intent</th><th>Sent</th><th>What came</th><th></th></tr
                  ></thead
                >
                <tbody>
                  {#each report.intents as i (i.id)}
                    {#each i.sent as s, n (n)}
                      <tr class="border-line border-t align-top">
                        <td class="py-1 pr-3"
                          >{i.name}{#if i.never}<span class="text-soft">, never</span>{/if}</td
                        >
                        <td class="py-1 pr-3">{s.from} to {s.to} on {s.service}</td>
                        <td class="py-1 pr-3">{s.rehearsed}</td>
                        <td class="py-1 whitespace-nowrap {s.same ? 'text-good' : 'text-clash font-semibold'}"
                          >{s.same ? "✓ as proven" : "× differs"}</td
                        >
                      </tr>
                    {/each}
                    {#each i.why as why (why)}
                      <tr class="border-line border-t align-top">
                        <td class="py-1 pr-3">{i.name}</td>
                        <td class="text-soft py-1" colspan="3">not sent: {why}</td>
                      </tr>
                    {/each}
                  {/each}
                </tbody>
              </table>
            {/if}
            {#if report.again.length}
              <h2 class="mt-4">Refused once at boot, and up once asked for again</h2>
              {#each report.again as a (a)}<p class="text-soft text-sm">{a}</p>{/each}
            {/if}
            {#if report.leaves.length}
              <h2 class="mt-4">Not rehearsed</h2>
              {#each report.leaves as l (l)}<p class="text-soft text-sm">{l}</p>{/each}
            {/if}
            {#if report.captures.length}
              <h2 class="mt-4">Captured</h2>
              {#each report.captures as c, n (n)}
                <p class="text-sm">
                  <a href={captureURL(design, seen.id, n + 1)} download>{c.flow}</a>
                  <span class="text-soft">from {c.from} to {c.to} on {c.service}</span>
                </p>
              {/each}
              <p class="text-soft text-sm">
                Hold one against its walk: <a href={placeURL(design, "proof")}>Walks</a>, what was seen.
              </p>
            {/if}
          {/if}
        </div>
      {:else if shown === "log"}
        <div class="grid min-h-0 flex-1 grid-cols-[14rem_1fr]">
          <div class="border-line overflow-y-auto border-r" aria-label="Boxes">
            {#each boxes as b (b.name)}
              <button class="row" aria-current={b.name === log?.name} onclick={() => (box.value = b.name)}
                >{b.name}<span class="text-soft block text-sm"
                  >{b.lines.length === 1 ? "1 line" : `${b.lines.length} lines`}</span
                ></button
              >
            {:else}<p class="text-soft p-3 text-sm">No box has said anything yet.</p>{/each}
          </div>
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <pre
            tabindex="0"
            aria-label="Log of {log?.name ?? 'no box'}"
            class="overflow-y-auto px-3 py-2 font-mono text-sm whitespace-pre-wrap">{log?.lines.join("\n") ??
              ""}</pre>
        </div>
      {:else if alive}
        <div class="min-h-0 flex-1">
          <PictureView
            estate={alive}
            selected=""
            select={(x) => goTo(design, "estate", { sel: x })}
            openGroup={(group) => goTo(design, "overlaps", { group })}
            openLink={(link) => goTo(design, "links", { link })}
            bare
          />
        </div>
      {/if}
    {:else if all.data && !id}
      <p class="text-soft p-4">
        Nothing has been rehearsed yet. A rehearsal brings the whole design up as it is handed over, sends
        real packets, and holds what happens against what is proven.
      </p>
    {/if}
  </div>
</div>
