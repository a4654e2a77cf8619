<script lang="ts">
  import type { Standing } from "../api/client";
  import { horizon, horizonWord } from "../lib/horizon";
  import { standingMark } from "../lib/links";

  interface Props {
    standing: Standing;
  }
  const { standing }: Props = $props();
  const mark = $derived(standingMark(standing));
</script>

<p data-testid="standing" data-up={standing.up}>
  <span class="font-semibold {mark.tone}"
    ><span class="font-mono" aria-hidden="true">{mark.sign}</span> {mark.word} {horizonWord[horizon()]}</span
  >{#if standing.why}: {standing.why}.{/if}
  {#if standing.code}<code class="text-soft font-mono text-xs">{standing.code}</code>{/if}
</p>
