<script lang="ts">
  import { useFindings } from "../api/queries";
  import type { Finding, Severity } from "../api/client";
  import { alike } from "../lib/findings";
  import { placeURL } from "../lib/places";
  import { side, sideWord } from "../lib/side";
  import Known from "./Known.svelte";
  import Drawer from "./Drawer.svelte";
  import Fixes from "./Fixes.svelte";

  interface Props {
    design: string;
    open: boolean;
    close: () => void;
  }
  const { design, open, close }: Props = $props();
  const findings = useFindings(() => design);

  let filter = $state("");
  let most = $state(150);
  const word = (f: Finding) => (f.severity === "risk" ? "at risk" : f.severity);
  const listed = $derived(
    (findings.data ?? []).filter((f) =>
      `${word(f)} ${f.sentence} ${f.evidence.join(" ")}`.toLowerCase().includes(filter.trim().toLowerCase()),
    ),
  );

  const groups = $derived(alike(listed));
  let inside = $state<Record<string, number>>({}); // how many of a group are shown

  function subject(f: Finding): string {
    if (f.group) return placeURL(design, "overlaps", { group: f.group });
    if (f.link)
      return placeURL(design, "links", {
        link: f.link,
        ...(f.line ? { line: f.line } : {}),
        ...(f.subjects[0] && f.subjects[0] !== f.link ? { tunnel: f.subjects[0] } : {}),
      });
    const first = f.subjects[0] ?? "";
    return f.code === "intent"
      ? placeURL(design, "proof", { intent: first })
      : placeURL(design, "estate", { sel: first });
  }
  const tone: Record<Severity, string> = {
    broken: "text-clash",
    risk: "text-warn",
    untidy: "text-soft",
    settled: "text-good",
  };
</script>

{#snippet one(f: Finding)}
  <article class="border-line border-b px-4 py-3">
    <p>
      <span class="font-semibold {tone[f.severity]}">{word(f)}</span>
      {f.sentence}
    </p>
    {#if f.evidence.length}
      <ul class="text-soft mt-1 list-inside list-disc text-sm">
        {#each f.evidence as e, m (m)}<li>{e}</li>{/each}
      </ul>
    {/if}
    <div class="mt-2 flex flex-wrap gap-1.5">
      <a class="button" href={subject(f)}>Show it</a>
      <Fixes {design} finding={f} />
    </div>
  </article>
{/snippet}

<Drawer title="Findings" {open} {close}>
  <Known of={findings} what="The findings">
    {#if (findings.data?.length ?? 0) > 5}
      <div class="border-line flex items-center gap-3 border-b px-4 py-2">
        <input
          class="field"
          aria-label="Filter findings"
          placeholder="Filter: a word, at risk, untidy"
          bind:value={filter}
        />
        <span class="text-soft text-sm whitespace-nowrap">{listed.length} of {findings.data?.length}</span>
      </div>
    {/if}
    {#each groups.slice(0, most) as g (g.key)}
      {@const first = g.findings[0]}
      {#if g.findings.length === 1 && first}
        {@render one(first)}
      {:else if first}
        <details class="border-line border-b">
          <summary class="px-4 py-3">
            <span class="font-semibold {tone[first.severity]}">{g.findings.length} {word(first)}</span>
            {first.sentence}
            <span class="text-soft">And {g.findings.length - 1} alike.</span>
          </summary>
          {#each g.findings.slice(0, inside[g.key] ?? 50) as f (f.key)}{@render one(f)}{/each}
          {#if g.findings.length > (inside[g.key] ?? 50)}
            <button class="button m-4" onclick={() => (inside[g.key] = (inside[g.key] ?? 50) + 200)}
              >{g.findings.length - (inside[g.key] ?? 50)} more</button
            >
          {/if}
        </details>
      {/if}
    {:else}
      {#if findings.data?.length}<p class="text-soft p-4">No finding holds that.</p>{:else}
        <p class="p-4">Nothing is wrong {sideWord[side()]} that Dravin can see.</p>{/if}
    {/each}
    {#if groups.length > most}<button class="button m-4" onclick={() => (most += 300)}
        >{groups.length - most} more</button
      >{/if}
  </Known>
</Drawer>
