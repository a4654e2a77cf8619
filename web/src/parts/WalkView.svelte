<script lang="ts">
  import type { Header, Hook, Stage, WalkProof } from "../api/client";
  import { side, sideWord } from "../lib/side";
  import { placeURL } from "../lib/places";
  import { tableKey } from "../lib/routes";
  import Address from "./Address.svelte";
  import Names from "./Names.svelte";
  import Verdict from "./Verdict.svelte";
  import WalkStrip from "./WalkStrip.svelte";

  interface Props {
    design: string;
    proof: WalkProof;
    /** The overlap group whose remedies would fix a stop, if there is one. */
    group?: string;
    /** It is of a change that is not made: its tables stand nowhere yet. */
    tried?: boolean;
    /** It must never arrive; whether it is kept apart. */
    apart?: boolean;
  }
  const { design, proof, group = "", tried = false, apart }: Props = $props();
  const good = $derived(apart ?? proof.works);

  /** The place on the strip whose stages are marked below. */
  let chosen = $state("");
  const ways = $derived([
    { name: "There", stages: proof.forward },
    { name: "Back", stages: proof.reply },
  ]);

  /** Where what must be fixed is: the line of the two-ended sheet, or the thing itself. */
  const fixAt = (stop: NonNullable<WalkProof["stop"]>): string =>
    stop.joint
      ? placeURL(design, "links", {
          link: stop.joint,
          tunnel: stop.subject ?? "",
          ...(stop.line ? { line: stop.line } : {}),
        })
      : placeURL(design, "estate", { sel: stop.subject ?? "" });
  /** Where in a box a packet is translated, in the order in which it comes by. */
  const hooks: Record<Hook, string> = {
    prerouting: "before the route is chosen; prerouting of a Linux box",
    listening: "one connection ends here, and another begins",
    postrouting: "after the route is chosen; postrouting of a Linux box",
  };
  const ends = (h: Header): string => `${h.src}${port(h.sport)} > ${h.dst}${port(h.dport)}`;
  const port = (n: number | undefined) => (n ? `:${n}` : "");
  const before = (stages: Stage[], n: number): Header | undefined => stages[n - 1]?.header;
</script>

<section class="panel px-4 py-3 {good ? 'border-l-good' : 'border-l-clash'} border-l-4" aria-label="Verdict">
  {#if apart !== undefined}
    <p class="text-lg">
      <Verdict
        {good}
        word="{good ? 'kept apart' : proof.works ? 'leaks' : 'arrives; no answer comes back'} {sideWord[
          side()
        ]}"
      />:
      {#if proof.works}
        {proof.from.title} reaches {proof.to.title} at <Address value={proof.dialled} /> on
        <span class="font-mono">{proof.service}</span>, and must not.
      {:else if proof.stop}
        {proof.stop.why}.
      {/if}
    </p>
    {#if !good && group}
      <a class="button button-main mt-2" href={placeURL(design, "plan", { group })}
        >Plan what keeps them apart</a
      >
    {/if}
    {#if proof.stop?.decided && !tried}
      <a class="button mt-1" href={placeURL(design, "passes", { of: proof.stop.decided.party ?? "" })}
        >See what may pass there</a
      >
    {/if}
  {:else if proof.works}
    <p class="text-lg">
      <Verdict good word="works {sideWord[side()]}" />: {proof.from.title} reaches {proof.to.title} at <Address
        value={proof.dialled}
      /> on
      <span class="font-mono">{proof.service}</span>, and the reply comes back.
    </p>
  {:else if proof.stop}
    <p class="text-lg">
      <Verdict
        good={false}
        word="{proof.stop.way === 'reply' ? 'stopped on the way back' : 'stopped on the way there'} {sideWord[
          side()
        ]}"
      />:
      {proof.stop.why}.
    </p>
    <p class="mt-1">
      <span class="font-semibold">Fix:</span>
      {proof.stop.fix}.
      {#if proof.stop.decided && !tried}
        <a class="button" href={placeURL(design, "passes", { of: proof.stop.decided.party ?? "" })}
          >See what may pass there</a
        >
      {:else if proof.stop.subject && !tried}
        <a class="button" href={fixAt(proof.stop)}
          >{proof.stop.joint ? "Open the line on the sheet" : "Open its sheet"}</a
        >
      {/if}
    </p>
    {#if group}
      <a class="button button-main mt-2" href={placeURL(design, "plan", { group })}>Plan what would work</a>
    {/if}
    {#if proof.stop.decided?.before.length}
      <details class="text-soft mt-1 text-sm">
        <summary
          >{proof.stop.decided.before.length} rule{proof.stop.decided.before.length === 1 ? "" : "s"} of {proof
            .stop.decided.name} asked before</summary
        >
        <ol>
          {#each proof.stop.decided.before as m (m.rule)}<li>rule {m.rule + 1}: {m.why}</li>{/each}
        </ol>
      </details>
    {/if}
    <p class="text-soft mt-1 text-sm">Code <code class="font-mono">{proof.stop.code}</code></p>
  {/if}
  {#if proof.owners.length > 1}
    <div class="text-soft mt-1 text-sm">
      <span class="font-mono">{proof.dialled}</span> alone does not say whose it is:
      <Names names={proof.owners.map((o) => o.title)} of="owners" /> hold it.
    </div>
  {/if}
</section>

{#if proof.forward.length}<WalkStrip {proof} {chosen} choose={(id) => (chosen = id)} />{/if}

{#each ways as way (way.name)}
  {#if way.stages.length}
    <h3 class="mt-4 mb-1">{way.name}</h3>
    <table class="panel w-full border-collapse text-sm" data-way={way.name}>
      <thead>
        <tr class="label border-line border-b text-left">
          <th class="w-8 px-2 py-1 font-normal">#</th>
          <th class="px-2 py-1 font-normal">What happens</th>
          <th class="px-2 py-1 font-normal">Source</th>
          <th class="px-2 py-1 font-normal">Destination</th>
        </tr>
      </thead>
      <tbody>
        {#each way.stages as stage, n (n)}
          {@const old = before(way.stages, n)}
          <tr
            class="border-line border-b align-top {stage.act === 'stops' ? 'text-clash' : ''} {chosen &&
            chosen === (stage.at.id || stage.at.title)
              ? 'bg-mark'
              : ''}"
            data-act={stage.act}
          >
            <td class="text-soft px-2 py-1.5 font-mono">{n + 1}</td>
            <td class="px-2 py-1.5">
              <span class="font-semibold">{stage.act}</span>
              {stage.text}
              {#if stage.hook}<span class="text-soft whitespace-nowrap" title={hooks[stage.hook]}
                  >({stage.hook})</span
                >{/if}
              {#if stage.decided}
                {@const d = stage.decided}
                <a
                  class="whitespace-nowrap"
                  href={placeURL(design, "passes", {
                    of: d.party ?? "",
                  })}>its rules</a
                >
                {#if d.before.length}
                  <details class="text-soft">
                    <summary>{d.before.length} asked before</summary>
                    <ol>
                      {#each d.before as m (m.rule)}<li>rule {m.rule + 1}: {m.why}</li>{/each}
                    </ol>
                  </details>
                {/if}
              {/if}
              {#if stage.table && !tried}
                <a
                  class="whitespace-nowrap"
                  href={placeURL(design, "routes", {
                    table: tableKey(stage.at.id, stage.at.segment),
                    entry: stage.table.winner?.prefix ?? stage.header.dst,
                  })}>why</a
                >
                {#if stage.table.branches?.length}<span class="text-soft"
                    >; shares with {stage.table.branches.map((b) => b.via).join(", ")}</span
                  >{/if}
              {/if}
              {#if stage.table?.losers.length}
                <details class="text-soft">
                  <summary
                    >{stage.table.losers.length} other {stage.table.losers.length === 1 ? "route" : "routes"} lost</summary
                  >
                  {#each stage.table.losers as r, m (m)}
                    <div class="font-mono">
                      {r.prefix}
                      {r.source}, {r.via}{r.unusable ? ` (${r.unusable})` : ""}
                    </div>
                  {/each}
                </details>
              {/if}
            </td>
            <td class="px-2 py-1.5 font-mono whitespace-nowrap">
              <Address value={stage.header.src} changed={!!old && old.src !== stage.header.src} /><span
                class="text-soft">{port(stage.header.sport)}</span
              >
            </td>
            <td class="px-2 py-1.5 font-mono whitespace-nowrap">
              <Address value={stage.header.dst} changed={!!old && old.dst !== stage.header.dst} /><span
                class="text-soft">{port(stage.header.dport)}</span
              >
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
{/each}

{#if proof.remembered.length}
  <h3 class="mt-4 mb-1">What the boxes remember</h3>
  <table class="panel w-full border-collapse text-sm" aria-label="Connection tables">
    <thead>
      <tr class="label border-line border-b text-left">
        <th class="px-2 py-1 font-normal">At</th>
        <th class="px-2 py-1 font-normal">The first packet came as</th>
        <th class="px-2 py-1 font-normal">Its answer comes as</th>
      </tr>
    </thead>
    <tbody>
      {#each proof.remembered as r, n (n)}
        <tr class="border-line border-b align-top">
          <td class="px-2 py-1.5">{r.at.title}{r.proxied ? ", two connections" : ""}</td>
          <td class="px-2 py-1.5 font-mono">{ends(r.first)}</td>
          <td class="px-2 py-1.5 font-mono">{ends(r.reply)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
{/if}
