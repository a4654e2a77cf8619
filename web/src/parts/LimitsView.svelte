<script lang="ts">
  import { useLimits } from "../api/queries";
  import Known from "./Known.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const limits = useLimits(() => design);
  const rows = $derived((limits.data ?? []).toSorted((a, b) => b.has / b.most - a.has / a.most));
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="h-full overflow-y-auto p-4" tabindex="0" role="region" aria-label="Limits">
  <Known of={limits} what="The limits" />
  {#if limits.data && rows.length === 0}
    <p>No profile sets a limit that anything here could meet.</p>
  {:else if rows.length}
    <table class="panel w-full max-w-6xl border-collapse text-sm">
      <thead
        ><tr class="label border-line border-b text-left"
          ><th class="px-3 py-1 font-normal">Of</th><th class="px-3 py-1 font-normal">What</th><th
            class="px-3 py-1 text-right font-normal">Used</th
          ><th class="px-3 py-1 text-right font-normal whitespace-nowrap">At most</th><th
            class="w-48 px-3 py-1"
          ></th></tr
        ></thead
      >
      <tbody>
        {#each rows as u, n (n)}
          {@const part = Math.min(1, u.has / u.most)}
          <tr class="border-line border-b">
            <td class="px-3 py-1">{u.title}</td>
            <td class="text-soft px-3 py-1 whitespace-nowrap">{u.what}</td>
            <td class="px-3 py-1 text-right font-mono">{u.has}</td>
            <td class="px-3 py-1 text-right font-mono">{u.most}</td>
            <td class="px-3 py-1">
              <span class="border-rule flex h-3 border" title="{Math.round(part * 100)} %">
                <span class={part > 0.9 ? "bg-clash" : "bg-soft"} style:width="{part * 100}%"></span>
              </span>
              {#if part > 0.9}<span class="text-clash font-semibold"
                  >{u.has > u.most ? "exceeded" : "nearly full"}</span
                >{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
</div>
