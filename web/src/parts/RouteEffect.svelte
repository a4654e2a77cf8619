<script lang="ts">
  import { X } from "@lucide/svelte";
  import { Dialog } from "bits-ui";
  import { useMatrixChanged, useRouteEffect, type Change } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { tableKey } from "../lib/routes";
  import ChangedPicture from "./ChangedPicture.svelte";
  import Known from "./Known.svelte";
  import Verdict from "./Verdict.svelte";

  interface Props {
    design: string;
    change: Change;
    /** Shown at once; otherwise when it is asked for. */
    open?: boolean;
    /** The picture stands beside it already. */
    beside?: boolean;
  }
  const { design, change, open = false, beside = false }: Props = $props();
  let pictured = $state(false);
  let asked = $derived(open);
  const effect = useRouteEffect(
    () => design,
    () => change,
    () => asked,
  );
  const e = $derived(effect.data);
  /** Who reaches whom afterwards is worked out when somebody asks for it. */
  let matrixAsked = $state(false);
  const matrix = useMatrixChanged(
    () => design,
    () => change.edits,
    () => matrixAsked && Boolean(change.edits?.length),
  );
  const sum = (of: "gained" | "lost" | "moved") => e?.tables.reduce((n, t) => n + t[of].length, 0) ?? 0;
  const starting = $derived(e?.flows.filter((f) => f.works) ?? []);
  const stopping = $derived(e?.flows.filter((f) => !f.works) ?? []);
</script>

{#if !asked}
  <button class="button" onclick={() => (asked = true)}>Routes before and after</button>
{:else}
  <section class="text-sm" aria-label="Routes before and after">
    <Known of={effect} what="The routes afterwards" />
    {#if e}
      <p role="status">
        {#if e.tables.length === 0}
          No table differs{e.flows.length ? "" : ", and no flow starts or stops"}.
        {:else}
          <strong>{e.tables.length} {e.tables.length === 1 ? "table differs" : "tables differ"}</strong>:
          {sum("gained")} entries gained, {sum("lost")} lost, {sum("moved")} moved;
          {starting.length} flows start, {stopping.length} stop.
        {/if}
      </p>
      {#if !beside && e.tables.length}
        <button class="button my-1" onclick={() => (pictured = true)}>Where, in the picture</button>
        <Dialog.Root bind:open={pictured}>
          <Dialog.Portal>
            <Dialog.Overlay class="bg-ink/25 fixed inset-0 z-40" />
            <Dialog.Content
              preventScroll={false}
              class="border-ink bg-paper fixed inset-8 z-50 flex flex-col border-2"
            >
              <div class="border-line flex items-center border-b px-4 py-2">
                <Dialog.Title class="text-lg">Whose tables would differ</Dialog.Title>
                <Dialog.Close class="button ml-auto" aria-label="Close the picture"
                  ><X size={16} /></Dialog.Close
                >
              </div>
              <div class="min-h-0 flex-1"><ChangedPicture {design} effect={e} bare /></div>
            </Dialog.Content>
          </Dialog.Portal>
        </Dialog.Root>
      {/if}
      {#if change.edits?.length}
        {#if !matrixAsked}
          <button class="button my-1" onclick={() => (matrixAsked = true)}>What it opens and closes</button>
        {:else}
          <Known of={matrix} what="The matrix afterwards" />
          {#if matrix.data}
            <p role="status">
              Of all hosts and services in use, it opens <strong>{matrix.data.counts["g"] ?? 0}</strong> flows
              and closes <strong>{matrix.data.counts["l"] ?? 0}</strong>.
            </p>
            <ul class="max-h-48 overflow-y-auto" aria-label="What it opens and closes">
              {#each matrix.data.changes ?? [] as c, n (n)}
                <li>
                  {c.works ? "opens" : "closes"}: {c.from_title} to {c.to_title} on
                  <span class="font-mono">{c.service}</span>{c.state === "o"
                    ? ", which no intent asks for"
                    : ""}
                </li>
              {/each}
            </ul>
          {/if}
        {/if}
      {/if}
      {#each [...stopping, ...starting].slice(0, 12) as f, n (n)}
        <p class="border-line border-b py-1">
          <Verdict good={f.works} word={f.works ? "starts" : "stops"} />
          {f.from} to {f.to} on <span class="font-mono">{f.what}</span>{f.why ? `: ${f.why}` : ""}
        </p>
      {/each}
      {#if e.flows.length > 12}<p class="text-soft">and {e.flows.length - 12} more</p>{/if}
      {#each e.tables.slice(0, 20) as t (t.at + (t.segment ?? ""))}
        <details class="border-line border-b py-1" open={e.tables.length < 4}>
          <summary
            >{t.title}
            <span class="text-soft"
              >{[
                t.gained.length && `+${t.gained.length}`,
                t.lost.length && `-${t.lost.length}`,
                t.moved.length && `${t.moved.length} moved`,
              ]
                .filter(Boolean)
                .join(", ")}</span
            ></summary
          >
          <p class="pl-3">
            <a href={placeURL(design, "routes", { table: tableKey(t.at, t.segment) })}
              >Open the table as it is</a
            >
          </p>
          {#each t.gained.slice(0, 30) as r (r.prefix)}<p class="pl-3">
              <span class="text-good font-mono font-semibold">+</span>
              <span class="font-mono">{r.prefix}</span> by {r.via} ({r.source})
            </p>{/each}
          {#each t.lost.slice(0, 30) as r (r.prefix)}<p class="pl-3">
              <span class="text-clash font-mono font-semibold">-</span>
              <span class="font-mono">{r.prefix}</span> by {r.via} ({r.source})
            </p>{/each}
          {#each t.moved.slice(0, 30) as m (m.prefix)}<p class="pl-3">
              <span class="text-warn font-mono font-semibold">→</span>
              <span class="font-mono">{m.prefix}</span> from {m.was.via} to {m.now.via}
            </p>{/each}
        </details>
      {/each}
      {#if e.tables.length > 20}<p class="text-soft">and {e.tables.length - 20} more tables</p>{/if}
    {/if}
  </section>
{/if}
