<script lang="ts">
  import { onDestroy } from "svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { useEstate, useStar, writer } from "../api/queries";
  import { urlState } from "../lib/url.svelte";
  import { goTo } from "../router";
  import Known from "./Known.svelte";
  import PartyPicker from "./PartyPicker.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const estate = useEstate(() => design);
  const write = writer(useQueryClient(), () => design);
  const head = urlState("a");
  const withURL = urlState("with");
  const shape = urlState("shape");
  const filter = urlState("find");

  const branches = $derived(withURL.value.split(" ").filter((id) => id && id !== head.value));
  const candidates = $derived(
    (estate.data?.parties ?? []).filter((x) => x.kind !== "outside" && x.id !== head.value),
  );
  const listed = $derived(
    candidates.filter((x) =>
      `${x.name} ${x.where}`.toLowerCase().includes(filter.value.trim().toLowerCase()),
    ),
  );
  const star = useStar(
    () => design,
    () => ({ head: head.value, branch: branches, shape: shape.value, gb: 0 }),
    () => head.value !== "" && branches.length > 0,
  );
  const s = $derived(head.value && branches.length ? star.data : undefined);
  const joined = $derived(s?.arms.filter((a) => a.out.length === 0).length ?? 0);
  const set = (ids: string[]) => withURL.replace(ids.join(" "));
  const toggle = (id: string) =>
    set(branches.includes(id) ? branches.filter((x) => x !== id) : [...branches, id]);
  const headName = $derived(estate.data?.parties.find((x) => x.id === head.value)?.name ?? "");
  let here = true; // nobody has gone elsewhere while the answer was on its way
  onDestroy(() => (here = false));
  async function apply(): Promise<void> {
    if (s && (await write.change(`Join ${headName} with ${joined}`, s.edits as never)) && here)
      goTo(design, "links");
  }
</script>

<div class="grid h-full grid-cols-[20rem_minmax(0,1fr)]">
  <aside class="border-line flex flex-col overflow-hidden border-r" aria-label="Head and branches">
    <div class="flex flex-col gap-2 p-3">
      <PartyPicker
        label="The head"
        parties={estate.data?.parties ?? []}
        value={head.value}
        choose={(id) => (head.value = id)}
      />
      <input
        class="field"
        aria-label="Filter branches"
        placeholder="Branches: part of a name"
        value={filter.value}
        oninput={(e) => filter.replace(e.currentTarget.value)}
      />
      <p class="flex flex-wrap items-center gap-1.5 text-sm">
        <span>{branches.length} of {candidates.length} chosen</span>
        <button class="button" onclick={() => set([...new Set([...branches, ...listed.map((x) => x.id)])])}
          >All {listed.length} listed</button
        >
        <button class="button" onclick={() => set([])}>None</button>
      </p>
    </div>
    <div class="min-h-0 flex-1 overflow-y-auto">
      {#each listed.slice(0, 400) as x (x.id)}
        <label class="row flex items-center gap-2"
          ><input type="checkbox" checked={branches.includes(x.id)} onchange={() => toggle(x.id)} />{x.name}
          <span class="text-soft ml-auto text-sm">{x.where}</span></label
        >
      {/each}
    </div>
  </aside>
  <div class="overflow-y-auto p-4">
    {#if !head.value || !branches.length}
      <p>Choose a head and the branches to join with it: all links are drafted as one change.</p>
    {:else}
      <Known of={star} what="The star" />
      {#if s}
        {#if s.clashes.length}
          <section class="border-clash mb-3 border-l-4 pl-3" aria-label="Clashes">
            <h3>{s.clashes.length} {s.clashes.length === 1 ? "pair" : "pairs"} of them collide</h3>
            <ul class="text-sm">
              {#each s.clashes.slice(0, 12) as c (c)}<li>{c}</li>{/each}
              {#if s.clashes.length > 12}<li class="text-soft">and {s.clashes.length - 12} more</li>{/if}
            </ul>
          </section>
        {/if}
        {#if s.shapes.length}
          <label class="mb-3 flex items-center gap-2"
            ><span class="label">By</span>
            <select
              class="field w-auto"
              value={s.shape}
              onchange={(e) => (shape.value = e.currentTarget.value)}
            >
              {#each s.shapes as x (x.key)}<option value={x.key}
                  >{x.title}: {x.fits} of {branches.length}</option
                >{/each}
            </select></label
          >
        {/if}
        <table class="mb-3 w-full text-sm">
          <thead><tr class="text-left"><th class="py-1">Branch</th><th>What is drafted</th></tr></thead>
          <tbody>
            {#each s.arms as arm (arm.branch)}
              <tr class="border-line border-t align-top">
                <td class="py-1 pr-3">{arm.name}</td>
                <td class="py-1"
                  >{#if arm.out.length}<span class="text-clash">left out: {arm.out.join("; ")}</span>
                  {:else}{arm.suggestions
                      .filter((x) => ["Routes", "Inside addresses", "Left out"].includes(x.what))
                      .map((x) => `${x.what}: ${x.value}`)
                      .join("; ") || "joined"}{/if}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
        <button class="button button-main" disabled={joined === 0} onclick={apply}
          >Draft {joined === 1 ? "the link" : `all ${joined} links`}</button
        >
      {/if}
    {/if}
  </div>
</div>
