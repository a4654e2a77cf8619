<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { Copy, Download } from "@lucide/svelte";
  import { toast } from "svelte-sonner";
  import type { WalkProof } from "../api/client";
  import { holdSeen, useFlowRemedies, useFlowSeen, writer, type Question } from "../api/queries";
  import { side } from "../lib/side";
  import { urlState } from "../lib/url.svelte";
  import type { HeldSeen } from "../api/client";
  import Choice from "./Choice.svelte";
  import Known from "./Known.svelte";
  import RemedyList from "./RemedyList.svelte";
  import WireView from "./WireView.svelte";

  interface Props {
    design: string;
    question: Question;
    proof: WalkProof;
    /** It must never work: nothing is offered that would let it through. */
    never?: boolean;
  }
  const { design, question, proof, never = false }: Props = $props();
  const more = urlState("more");
  const write = writer(useQueryClient(), () => design);
  const seen = useFlowSeen(
    () => design,
    () => question,
  );
  const views = $derived([
    { key: "", word: "On the way", title: "MTU, round-trip time and bandwidth of each leg" },
    { key: "wire", word: "On the wire", title: "What one would capture, trace and log" },
    { key: "held", word: "Hold against it", title: "A capture, a ping, a trace, a connection table" },
    ...(proof.works || never
      ? []
      : [{ key: "fixes", word: "What would let it through", title: "Changes, each tried" }]),
  ]);
  const shown = $derived(views.find((v) => v.key === more.value)?.key ?? "");
  const remedies = useFlowRemedies(
    () => design,
    () => question,
    () => shown === "fixes",
  );
  const capture = $derived(
    `/api/designs/${design}/walk/capture?${new URLSearchParams({ ...question, side: side() })}`,
  );

  let pasted = $state("");
  let held = $state.raw<HeldSeen>();
  let wrong = $state("");
  /** The walk that the answer at hand is about: another makes it stale, and so does a later question. */
  let about = $state.raw<WalkProof>();
  let asked = 0;
  async function hold(body: { text?: string; file?: string }): Promise<void> {
    const [mine, walk] = [++asked, proof];
    wrong = "";
    try {
      const got = await holdSeen(design, { ...question, ...body });
      if (mine === asked) [held, about] = [got, walk];
    } catch (e) {
      if (mine === asked) [held, wrong] = [undefined, e instanceof Error ? e.message : "It can not be read"];
    }
  }
  async function take(files: FileList | null | undefined): Promise<void> {
    const file = files?.[0];
    if (!file) return;
    const bytes = new Uint8Array(await file.arrayBuffer());
    let text = "";
    for (let n = 0; n < bytes.length; n += 8192) text += String.fromCharCode(...bytes.subarray(n, n + 8192));
    await hold({ file: btoa(text) });
  }
  async function copy(): Promise<void> {
    await navigator.clipboard.writeText(seen.data?.text ?? "");
    toast.success("The walk is copied as text");
  }
  const rtt = (from: string, ms: number): string =>
    from === "unknown" ? "not known" : `${ms} ms, ${from === "distance" ? "by distance" : from}`;
</script>

<section class="mt-5" aria-label="More of this walk">
  <div class="flex flex-wrap items-center gap-2">
    <Choice label="More of this walk" options={views} value={shown} choose={(k) => (more.value = k)} />
    <button class="button ml-auto" disabled={!seen.data} onclick={copy}><Copy size={15} />Copy as text</button
    >
    <a class="button" href={capture} download="walk.pcapng"><Download size={15} />Capture file</a>
  </div>
  <Known of={seen} what="What one would see" />
  {#if shown === "" && seen.data}
    {@const m = seen.data.measure}
    {#if m.there.legs.length + m.back.legs.length === 0}
      <p class="text-soft mt-2">It takes no link, circuit or peering: packets of 1500 bytes fit.</p>
    {:else}
      <table class="panel mt-2 w-full border-collapse text-sm" aria-label="Legs">
        <thead>
          <tr class="label border-line border-b text-left">
            <th class="px-2 py-1 font-normal">Leg</th>
            <th class="px-2 py-1 font-normal">Largest packet</th>
            <th class="px-2 py-1 font-normal">There and back</th>
            <th class="px-2 py-1 font-normal">Bandwidth</th>
          </tr>
        </thead>
        <tbody>
          {#each [...m.there.legs.map( (leg) => ({ leg, way: "there" }) ), ...m.back.legs.map( (leg) => ({ leg, way: "back" }) )] as { leg, way }, n (n)}
            <tr class="border-line border-b align-top">
              <td class="px-2 py-1.5">{leg.title} <span class="text-soft">{way}</span></td>
              <td class="px-2 py-1.5"
                ><span class="font-mono">{leg.mtu}</span> bytes
                <span class="text-soft">{leg.mtu_why}</span></td
              >
              <td class="px-2 py-1.5"
                >{rtt(leg.rtt_from, leg.rtt_ms)}{#if leg.title === m.slowest}<span
                    class="text-warn font-semibold"
                  >
                    slowest</span
                  >{/if}</td
              >
              <td class="px-2 py-1.5"
                >{leg.mbps ? `${leg.mbps} Mbit/s` : "not known"}{#if leg.joint === m.bottleneck}<span
                    class="text-warn font-semibold"
                  >
                    narrowest</span
                  >{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
      <ul class="mt-2 flex flex-col gap-1 text-sm">
        <li>
          <span class="font-mono">{m.there.mtu}</span> bytes fit there,
          <span class="font-mono">{m.back.mtu}</span> back; {m.rtt_ms} ms there and back{m.unknown?.length
            ? `, and nobody says how long ${m.unknown.join(" and ")} takes`
            : ""}.
        </li>
        {#each [{ way: "There", large: m.there.large }, { way: "Back", large: m.back.large }] as { way, large } (way)}
          {#if !large.fits && large.why}
            <li>
              <span class="font-semibold">{way}:</span>
              {large.why}.
              {large.clamped
                ? `TCP is told that ${large.mss} bytes fit into a segment.`
                : `Nobody tells TCP that only ${large.mss} bytes fit into a segment.`}
            </li>
          {/if}
        {/each}
        {#if seen.data.sharing?.length}
          <li>
            <span class="font-semibold">Shared:</span>
            {m.narrowest} carries {seen.data.sharing.join("; ")}, too.
          </li>
        {/if}
      </ul>
    {/if}
  {:else if shown === "wire" && seen.data}
    <WireView seen={seen.data} />
  {:else if shown === "held"}
    <div class="mt-2 grid grid-cols-[1fr_1fr] gap-3">
      <div class="flex flex-col gap-1.5">
        <label class="label" for="pasted"
          >What ping, traceroute, conntrack -L, swanctl --list-sas or birdc show protocols printed</label
        >
        <textarea
          id="pasted"
          class="field h-36 font-mono text-sm"
          bind:value={pasted}
          ondragover={(e) => e.preventDefault()}
          ondrop={(e) => {
            e.preventDefault();
            void take(e.dataTransfer?.files);
          }}
          placeholder="Paste it here, or drop a capture (pcapng or pcap)"></textarea>
        <div class="flex items-center gap-2">
          <button class="button button-main" disabled={!pasted.trim()} onclick={() => hold({ text: pasted })}
            >Hold it against the walk</button
          >
          <label class="button"
            >Choose a capture<input
              type="file"
              class="sr-only"
              onchange={(e) => take(e.currentTarget.files)}
            /></label
          >
        </div>
      </div>
      <div aria-live="polite">
        {#if wrong}<p role="alert" class="text-clash">{wrong}</p>{/if}
        {#if held && about === proof}
          <div class="panel border-l-4 px-3 py-2 {held.agrees ? 'border-l-good' : 'border-l-clash'}">
            <p class="font-semibold {held.agrees ? 'text-good' : 'text-clash'}">
              {held.agrees ? "It agrees with the walk" : "It parts from the walk"}
            </p>
            {#if held.reached}<p class="text-sm">Seen up to: {held.reached}</p>{/if}
            {#if held.parts}<p class="mt-1 first-letter:uppercase">{held.parts}.</p>{/if}
            <p class="mt-1 first-letter:uppercase">{held.says}.</p>
            <p class="mt-1"><span class="font-semibold">Next:</span> {held.next}.</p>
          </div>
          <ul class="mt-2 flex max-h-64 flex-col gap-0.5 overflow-y-auto text-sm">
            {#each held.strange ?? [] as x, n (n)}
              <li class="text-clash"><span class="font-mono">{x.seen}</span>: {x.why}</li>
            {/each}
            {#each (held.matched ?? []).slice(0, 60) as x, n (n)}
              <li><span class="font-mono">{x.seen}</span> <span class="text-soft">{x.place}</span></li>
            {/each}
          </ul>
        {:else if !wrong}
          <p class="text-soft">
            What was seen is held against this walk: up to which stage they agree, where they part, and what
            to look at next.
          </p>
        {/if}
      </div>
    </div>
  {:else if shown === "fixes"}
    <Known of={remedies} what="What would let it through" />
    {#if remedies.data}
      <RemedyList
        {design}
        list={remedies.data}
        none="Nothing that Dravin can make lets this flow through without breaking what works."
        apply={(r) => write.change(r.title, r.edits, true)}
      />
    {/if}
  {/if}
</section>
