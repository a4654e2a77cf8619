<script lang="ts">
  import { useFindings } from "../api/queries";
  import type { Finding } from "../api/client";
  import { placeURL } from "../lib/places";
  import { horizon, horizonWord } from "../lib/horizon";
  import Known from "./Known.svelte";
  import Drawer from "./Drawer.svelte";
  import Mends from "./Mends.svelte";

  interface Props {
    design: string;
    open: boolean;
    close: () => void;
  }
  const { design, open, close }: Props = $props();
  const findings = useFindings(() => design);

  function subject(f: Finding): string {
    if (f.group) return placeURL(design, "overlaps", { group: f.group });
    if (f.link)
      return placeURL(design, "links", {
        link: f.link,
        ...(f.line ? { line: f.line } : {}),
        ...(f.subjects[0] && f.subjects[0] !== f.link ? { strand: f.subjects[0] } : {}),
      });
    const first = f.subjects[0] ?? "";
    return f.code === "intent"
      ? placeURL(design, "proof", { intent: first })
      : placeURL(design, "estate", { sel: first });
  }
  const tone: Record<string, string> = {
    broken: "text-clash",
    risk: "text-warn",
    untidy: "text-soft",
    settled: "text-good",
  };
</script>

<Drawer title="Findings" {open} {close}>
  <Known of={findings} what="The findings">
    {#each findings.data ?? [] as f (f.key)}
      <article class="border-line border-b px-4 py-3">
        <p>
          <span class="font-semibold {tone[f.severity]}"
            >{f.severity === "risk" ? "at risk" : f.severity}</span
          >
          {f.sentence}
        </p>
        {#if f.evidence.length}
          <ul class="text-soft mt-1 list-inside list-disc text-sm">
            {#each f.evidence as e, m (m)}<li>{e}</li>{/each}
          </ul>
        {/if}
        <div class="mt-2 flex flex-wrap gap-1.5">
          <a class="button" href={subject(f)}>Show it</a>
          <Mends {design} finding={f} />
        </div>
      </article>
    {:else}
      <p class="p-4">Nothing is wrong {horizonWord[horizon()]} that Dravin can see.</p>
    {/each}
  </Known>
</Drawer>
