<script lang="ts">
  import type { Status } from "../api/client";
  import { side, sideWord } from "../lib/side";
  import { statusMark } from "../lib/links";

  interface Props {
    status: Status;
  }
  const { status }: Props = $props();
  const mark = $derived(statusMark(status));
</script>

<p data-testid="status" data-up={status.up}>
  <span class="font-semibold {mark.tone}"
    ><span class="font-mono" aria-hidden="true">{mark.sign}</span> {mark.word} {sideWord[side()]}</span
  >{#if status.why}: {status.why}.{/if}
  {#if status.code}<code class="text-soft font-mono text-xs">{status.code}</code>{/if}
</p>
