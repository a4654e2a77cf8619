<script lang="ts">
  import { find, usePasses } from "../api/queries";
  import { kindWord } from "../lib/form";
  import { urlState } from "../lib/url.svelte";
  import CrossingTable from "../parts/CrossingTable.svelte";
  import Known from "../parts/Known.svelte";
  import PassesAt from "../parts/PassesAt.svelte";
  import Suggest from "../parts/Suggest.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const of = urlState("of");
  const view = urlState("view");
  const all = usePasses(
    () => design,
    () => "",
  );
  const crossings = $derived(view.value === "crossings");
  const subject = $derived(crossings ? "" : of.value || (all.data?.subjects[0]?.id ?? ""));

  const kinds = [
    "site",
    "network",
    "hub",
    "edge-router",
    "outside",
    "endpoint",
    "group",
    "lan",
    "subnet",
    "crossing",
  ];
  async function subjects(text: string) {
    const found = await find(design, text, kinds);
    return found.map((f) => ({ value: f.id, label: f.title, hint: `${kindWord(f.kind)}, ${f.hint}` }));
  }
  function look(id: string): void {
    view.value = "";
    of.value = id;
  }
</script>

<div class="grid h-full grid-cols-[20rem_1fr]">
  <aside class="border-line flex min-h-0 flex-col border-r" aria-label="What to look at">
    <div class="flex flex-col gap-1.5 px-3 pt-3 pb-2">
      <h2>What may pass</h2>
      <Suggest
        label="Look at"
        name="of"
        options={subjects}
        text=""
        choose={look}
        placeholder="party, host, group or crossing"
      />
      <button
        class="button self-start {crossings ? 'bg-mark font-semibold' : ''}"
        aria-pressed={crossings}
        onclick={() => (view.value = crossings ? "" : "crossings")}>Crossings between segments</button
      >
    </div>
    <Known of={all} what="What may pass" />
    <div class="min-h-0 flex-1 overflow-y-auto">
      {#each all.data?.subjects ?? [] as s (s.id)}
        <button class="row" aria-current={subject === s.id} onclick={() => look(s.id)}>
          <span class="flex items-baseline gap-2"
            ><span class="min-w-0 break-words">{s.title}</span>
            <span class="text-soft ml-auto text-sm whitespace-nowrap"
              >{s.filters} filter{s.filters === 1 ? "" : "s"}</span
            ></span
          >
          <span class="text-soft block text-sm">
            {s.kind}{#if s.missing}<span class="text-clash">, {s.missing} missing</span>{/if}{#if s.unneeded}, {s.unneeded}
              unneeded{/if}
          </span>
        </button>
      {:else}
        {#if all.data}
          <p class="text-soft px-3 py-2">
            No filter stands anywhere: nothing is refused. Look at a party, and add one where its platform has
            filters; its rules are worked out from the intents.
          </p>
        {/if}
      {/each}
    </div>
  </aside>
  <div class="min-h-0 overflow-y-auto p-4">
    {#if crossings}
      <CrossingTable {design} />
    {:else if subject}
      <PassesAt {design} of={subject} />
    {:else}
      <p class="text-soft">Choose a party, host, group or crossing on the left.</p>
    {/if}
  </div>
</div>
