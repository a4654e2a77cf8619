<script lang="ts">
  import { Check, X } from "@lucide/svelte";

  interface Props {
    good: boolean;
    word?: string;
  }
  const { good, word }: Props = $props();
</script>

<span
  class="inline-flex items-center gap-1 font-semibold whitespace-nowrap {good ? 'text-good' : 'text-clash'}"
>
  {#if good}<Check size={15} aria-hidden="true" />{:else}<X size={15} aria-hidden="true" />{/if}{word ??
    (good ? "works" : "stopped")}
</span>
