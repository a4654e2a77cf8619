<script lang="ts">
  import { useWorkChanges } from "../api/queries";
  import ChangeRow from "./ChangeRow.svelte";
  import Known from "./Known.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const list = useWorkChanges(() => design);
  const all = $derived(list.data ?? []);
  const groups = $derived(
    (
      [
        ["open", "To do"],
        ["aside", "Set aside"],
        ["done", "Built"],
        ["back", "Taken back"],
      ] as const
    ).map(([state, word]) => ({ state, word, rows: all.filter((c) => c.state === state) })),
  );
  const open = $derived(groups[0]?.rows.length ?? 0);
  /** Who opens a long list does not wait for all of it to be proven. */
  const proven = 12;
</script>

<div class="h-full overflow-y-auto print:h-auto print:overflow-visible">
  <div class="mx-auto max-w-5xl px-4 py-3">
    <h1 class="mb-2 text-lg">
      {#if list.data}{open === 1 ? "1 change" : `${open} changes`} to do{:else}Changes{/if}
    </h1>
    <Known of={list} what="The changes" />
    {#if list.data && !all.length}
      <p class="text-soft">
        What is built is what is planned. What you plan, say or draw from now on is listed here, each as a
        change with its title: to be proven alone, set aside or taken back.
      </p>
    {/if}
    {#each groups as g (g.state)}
      {#if g.rows.length}
        {#if g.state !== "open"}<h2 class="mt-4">{g.word}</h2>{/if}
        {#each g.rows as c, n (c.id)}
          <ChangeRow {design} {c} {all} prove={g.state === "open" && n < proven} />
        {/each}
      {/if}
    {/each}
  </div>
</div>
