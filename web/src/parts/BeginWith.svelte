<script lang="ts">
  import type { Option } from "./Suggest.svelte";

  interface Props {
    label: string;
    /** What may be chosen for what is typed; here nothing is. */
    options: (text: string) => Option[] | Promise<Option[]>;
    choose: (value: string, label: string) => void;
  }
  const { label, options, choose }: Props = $props();
  const most = 12;
</script>

{#await options("") then all}
  {#if all.length}
    <div class="max-w-prose px-6" role="group" aria-label={label}>
      {#each all.slice(0, most) as o (o.value)}
        <button class="row flex justify-between gap-3" onclick={() => choose(o.value, o.label)}
          ><span class="truncate">{o.label}</span><span class="text-soft truncate text-sm"
            >{o.hint ?? ""}</span
          ></button
        >
      {/each}
      {#if all.length > most}<p class="text-soft py-2 text-sm">
          {all.length - most} more: type a part of the name above.
        </p>{/if}
    </div>
  {/if}
{/await}
