<script lang="ts">
  import type { Proposal } from "../api/client";
  import Address from "./Address.svelte";
  import RouteEffect from "./RouteEffect.svelte";
  import Verdict from "./Verdict.svelte";

  interface Props {
    design: string;
    proposal: Proposal;
    best: boolean;
    apply: (p: Proposal) => void;
  }
  const { design, proposal, best, apply }: Props = $props();
  const byParty = $derived(
    [...new Set(proposal.changes.map((c) => c.where))].map((where) => ({
      where,
      list: proposal.changes.filter((c) => c.where === where),
    })),
  );
  const was = (intent: string) => proposal.before.find((r) => r.intent === intent)?.holds ?? false;
</script>

<article class="panel flex w-[25rem] shrink-0 flex-col {best ? 'border-ink border-2' : ''}">
  <header class="border-line border-b px-3 py-2">
    <h3>{proposal.title}</h3>
    <p class={proposal.holding === proposal.total ? "text-good font-semibold" : "text-clash font-semibold"}>
      {proposal.holding} of {proposal.total} intents hold afterwards
    </p>
  </header>
  <div class="flex-1 overflow-y-auto px-3 py-2 text-sm">
    {#each proposal.maps as m (m.place)}
      <p class="text-base">
        <Address value={m.real} /> <span aria-label="becomes">→</span>
        <Address value={m.mapped} />
      </p>
    {/each}
    <p class="text-soft">{proposal.why}</p>
    <p class="mt-2">{proposal.start}</p>
    <h4 class="mt-3 font-semibold">Intents, proven before and after</h4>
    {#each proposal.after as r (r.intent)}
      <p class="border-line flex gap-2 border-b py-1">
        <span>{r.name}</span><span class="ml-auto whitespace-nowrap"
          ><Verdict good={was(r.intent)} word={was(r.intent) ? "holds" : "fails"} /> → <Verdict
            good={r.holds}
            word={r.holds ? "holds" : "fails"}
          /></span
        >
      </p>
    {/each}
    <h4 class="mt-3 font-semibold">{proposal.changes.length} changes</h4>
    {#each byParty as g (g.where)}
      <p class="text-soft mt-1">{g.where}</p>
      <ul class="list-inside list-disc">
        {#each g.list as c, n (n)}<li>{c.text}</li>{/each}
      </ul>
    {/each}
  </div>
  <footer class="border-line max-h-64 overflow-y-auto border-t p-2">
    <div class="float-right max-w-full"><RouteEffect {design} change={{ edits: proposal.edits }} /></div>
    <button class="button {best ? 'button-main' : ''}" onclick={() => apply(proposal)}>Apply</button>
  </footer>
</article>
