<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { useWorkedFilters, writer } from "../api/queries";
  import Drawer from "./Drawer.svelte";
  import Known from "./Known.svelte";

  interface Props {
    design: string;
    /** The filters to work out; undefined: closed. */
    filters: string[] | undefined;
    close: () => void;
  }
  const { design, filters, close }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  let keep = $state(false);
  const worked = useWorkedFilters(
    () => design,
    () => filters && { filter: filters, keep },
  );
  async function apply(): Promise<void> {
    if (worked.data && (await write.change("Filters as the intents need them", worked.data.edits, true)))
      close();
  }
</script>

<Drawer title="Rules from the intents" open={filters !== undefined} {close}>
  <div class="flex flex-col gap-3 p-4">
    <p class="text-soft text-sm">
      The fewest rules that let pass exactly what intents need, on the addresses that are on the wire at each
      filter.
    </p>
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={keep} />Leave the rules that name no intent</label
    >
    <Known of={worked} what="What follows from the intents" />
    {#if worked.data}
      {#each worked.data.filters as f (f.filter)}
        {@const [before = [], after = []] = worked.data.texts[f.filter] ?? [[], []]}
        <section aria-label={f.title}>
          <h3>{f.title}: {f.added} added, {f.gone} gone</h3>
          <ul class="font-mono text-sm">
            {#each before.filter((t) => !after.includes(t)) as t (t)}<li class="text-clash">− {t}</li>{/each}
            {#each after.filter((t) => !before.includes(t)) as t (t)}<li class="text-good">+ {t}</li>{/each}
            {#if f.closes}<li class="text-good">+ everything else is refused</li>{/if}
          </ul>
          {#if f.over}<p class="text-clash">{f.over}</p>{/if}
        </section>
      {:else}
        <p role="status">These filters let pass exactly what intents need.</p>
      {/each}
      {#each worked.data.unmet as u, n (n)}<p class="text-clash">{u.why}</p>{/each}
      <button class="button button-main self-start" disabled={!worked.data.edits.length} onclick={apply}
        >Apply to {worked.data.filters.length} filter{worked.data.filters.length === 1 ? "" : "s"}</button
      >
    {/if}
  </div>
</Drawer>
