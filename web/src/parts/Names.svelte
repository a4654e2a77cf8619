<script lang="ts">
  interface Props {
    names: string[];
    /** What they are, in the plural. */
    of: string;
  }
  const { names, of }: Props = $props();

  /** So many are named in a sentence; more are counted, and folded behind it. */
  const told = 3;
  const long = 12;
  let filter = $state("");
  const rest = $derived(names.slice(told));
  const listed = $derived(rest.filter((n) => n.toLowerCase().includes(filter.trim().toLowerCase())));
</script>

{#if names.length <= told + 1}
  {names.length > 1 ? `${names.slice(0, -1).join(", ")} and ${names.at(-1)}` : (names[0] ?? "")}
{:else}
  {names.slice(0, told).join(", ")} and
  <details class="inline-block align-top">
    <summary>{rest.length} more</summary>
    {#if rest.length > long}
      <input class="field mt-1" aria-label="Filter the {of}" placeholder="Filter" bind:value={filter} />
    {/if}
    <ul class="max-h-56 overflow-y-auto">
      {#each listed as name, n (n)}<li>{name}</li>{:else}<li>None is called that.</li>{/each}
    </ul>
  </details>
{/if}
