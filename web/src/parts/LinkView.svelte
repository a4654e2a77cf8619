<script lang="ts">
  import { Toggle } from "bits-ui";
  import { ClipboardPaste, KeyRound } from "@lucide/svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { client, data, Refusal, type Edit } from "../api/client";
  import { useLink, writer } from "../api/queries";
  import { kindWord } from "../lib/form";
  import { speed, split, statusMark, stateTone, stateWord } from "../lib/links";
  import { placeURL } from "../lib/places";
  import { side } from "../lib/side";
  import { urlState } from "../lib/url.svelte";
  import LineTable from "./LineTable.svelte";
  import Fixes from "./Fixes.svelte";
  import SentView from "./SentView.svelte";
  import StatusLine from "./StatusLine.svelte";
  import StepBar from "./StepBar.svelte";
  import Verdict from "./Verdict.svelte";

  interface Props {
    design: string;
    id: string;
  }
  const { design, id }: Props = $props();
  const link = useLink(
    () => design,
    () => id,
  );
  /** What was refused is gone, even where an older answer is still at hand. */
  const s = $derived(link.error instanceof Refusal ? undefined : link.data);
  const write = writer(useQueryClient(), () => design);
  const chosen = urlState("tunnel");
  const pasting = urlState("paste");
  const line = urlState("line");
  const tunnel = $derived(
    s?.tunnels.find(
      (t) => [t.name, t.id].includes(chosen.value) || t.sessions.some((x) => x.id === chosen.value),
    ) ?? s?.tunnels[0],
  );
  const lines = $derived(split(tunnel?.lines ?? s?.lines ?? []));
  const ends = $derived<[string, string]>([s?.ends[0]?.title ?? "", s?.ends[1]?.title ?? ""]);
  const shownByLines = [
    "ends-differ",
    "session-down",
    "lifetimes-differ",
    "mtu-too-large",
    "selectors-differ",
    "half-made-peering",
    "gateway-not-lent",
    "circuit-speeds-differ",
    "circuit-tags-differ",
    "request-open",
  ];
  /** What lines do not show: the sheet's lines carry their own fixes. */
  const other = $derived((s?.findings ?? []).filter((f) => !shownByLines.includes(f.code)));
  const differing = $derived(lines.must.filter((l) => l.verdict === "differs").length);

  const fix = (title: string, edits: Edit[]) => void write.change(`${title}: ${s?.name ?? ""}`, edits);
  const setLine = (end: number, key: string, value: string, label: string) =>
    tunnel &&
    void write.attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/tunnels/{tunnel}/cell", {
            params: { path: { design, tunnel: tunnel.id }, query: { side: side() } },
            body: {
              end,
              line: key,
              value,
              base: write.base(),
              reason: `Set ${label} at ${ends[end]}: ${s?.name ?? ""}, ${tunnel.name}`,
            },
          }),
        ),
      `${label} set`,
    );
  const setKey = (take: "theirs" | "ours" | "new") =>
    tunnel &&
    void write.attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/tunnels/{tunnel}/key", {
            params: { path: { design, tunnel: tunnel.id } },
            body: { take },
          }),
        ),
      take === "new" ? "A new key is made; hand it over to both ends" : "The key is settled",
    );
</script>

{#if s}
  <article class="flex flex-col gap-3 p-4" aria-label="Two-ended sheet">
    <header class="flex flex-wrap items-start gap-x-6 gap-y-1">
      <div class="min-w-0">
        <p class="label">
          {kindWord(s.kind)},
          <span class={stateTone[s.state] ?? "text-soft"}>{stateWord(s.state)}</span>
        </p>
        <h1 class="text-xl">{s.name}</h1>
      </div>
      <dl class="ml-auto grid grid-cols-[max-content_max-content] gap-x-3 text-sm">
        <dt class="text-soft">Shape</dt>
        <dd>
          {s.facts.shape}{s.tunnels.length
            ? `, ${s.tunnels.length === 1 ? "1 tunnel" : `${s.tunnels.length} tunnels`}`
            : ""}
        </dd>
        <dt class="text-soft">Bandwidth</dt>
        <dd>{s.kind === "link" && s.facts.mbps === 0 ? "as the gateways do" : speed(s.facts.mbps)}</dd>
      </dl>
      <dl class="grid max-w-80 grid-cols-[max-content_1fr] gap-x-3 text-sm">
        <dt class="text-soft">Survives</dt>
        <dd class={s.facts.fragile ? "text-warn" : ""}>{s.facts.survives}</dd>
        <dt class="text-soft">A month</dt>
        <dd><span class="font-mono">{s.facts.monthly}</span>, traffic apart</dd>
      </dl>
    </header>
    <StatusLine status={s.status} />
    <StepBar {design} sheet={s} />
    {#each other as f, n (n)}
      <div class="border-l-4 pl-3 {f.severity === 'broken' ? 'border-clash' : 'border-warn'}">
        <p>{f.sentence}</p>
        <div class="mt-1 flex flex-wrap gap-1.5"><Fixes {design} finding={f} /></div>
      </div>
    {/each}
    {#if tunnel}
      <div class="flex flex-wrap items-center gap-1.5">
        {#each s.tunnels as t (t.id)}
          <Toggle.Root
            class="button {t.id === tunnel.id ? 'bg-mark font-semibold' : ''}"
            pressed={t.id === tunnel.id}
            onPressedChange={() => (chosen.value = t.name)}
            >{t.name}
            <span class={statusMark(t.status).tone}
              ><span aria-hidden="true" class="font-mono">{statusMark(t.status).sign}</span>
              {statusMark(t.status).word}</span
            ></Toggle.Root
          >
        {/each}
        <p class="ml-2" data-testid="outcome">
          <Verdict
            good={tunnel.outcome.up && tunnel.outcome.renews}
            word={tunnel.outcome.up ? "up" : "down"}
          />
          {tunnel.outcome.why}
        </p>
        <span class="ml-auto flex gap-1.5">
          <button class="button" onclick={() => (pasting.value = pasting.value ? "" : "1")}
            ><ClipboardPaste size={16} />What the far end sent</button
          >
          <button class="button" onclick={() => setKey("new")}><KeyRound size={16} />New key</button>
        </span>
      </div>
      {#if pasting.value}
        <SentView {design} sheet={s} tunnel={tunnel.id} done={() => (pasting.value = "")} />
      {/if}
    {/if}
    {#if lines.must.length}
      <section aria-label="Must agree">
        <h2 class="mb-1 flex gap-2">
          Must agree
          <span class="font-normal {differing ? 'text-clash' : 'text-soft'}"
            >{differing
              ? `${differing} of ${lines.must.length} ${differing === 1 ? "differs" : "differ"}`
              : `${lines.must.length} lines`}</span
          >
        </h2>
        <LineTable
          lines={lines.must}
          {ends}
          caption="Parameter"
          {fix}
          key={setKey}
          set={tunnel && setLine}
          shown={line.value}
        />
      </section>
    {/if}
    {#if lines.free.length}
      <section aria-label="Need not agree">
        <h2 class="mb-1">{s.kind === "attachment" ? "How it is attached" : "Need not agree"}</h2>
        <LineTable
          lines={lines.free}
          {ends}
          caption="Parameter"
          {fix}
          set={tunnel && setLine}
          shown={line.value}
        />
      </section>
    {/if}
    <p class="text-soft text-sm">
      {#each s.ends as e, n (n)}
        {n ? "; " : ""}{e.name}{e.owner ? ` is ${e.owner}'s` : " has no owner"}
      {/each}.
      <a href={placeURL(design, "estate", { sel: s.id })}>All its values</a>;
      <a href={placeURL(design, "handover", { party: s.ends[0]?.party ?? "" })}>hand over</a>.
    </p>
  </article>
{:else if link.error}
  <p class="p-4" role="alert">{link.error.message}</p>
{:else}
  <p class="text-soft p-4" role="status">The sheet: being worked out…</p>
{/if}
