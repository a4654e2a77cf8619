<script lang="ts">
  import type { Estate } from "../api/client";

  interface Props {
    label: string;
    parties: Estate["parties"];
    value: string;
    choose: (id: string) => void;
  }
  const { label, parties, value, choose }: Props = $props();
  const groups: [string, string][] = [
    ["site", "Sites"],
    ["network", "Cloud networks"],
    ["hub", "Hubs"],
    ["edge-router", "Edge routers"],
  ];
</script>

<label class="min-w-52 flex-1"
  ><span class="label">{label}</span>
  <select class="field" aria-label={label} {value} onchange={(e) => choose(e.currentTarget.value)}>
    <option value="">choose</option>
    {#each groups as [kind, word] (kind)}
      {@const list = parties.filter((x) => x.kind === kind)}
      {#if list.length}
        <optgroup label={word}>
          {#each list as x (x.id)}<option value={x.id}>{x.name}{x.where ? ` (${x.where})` : ""}</option
            >{/each}
        </optgroup>
      {/if}
    {/each}
  </select></label
>
