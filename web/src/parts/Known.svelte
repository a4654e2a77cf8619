<script lang="ts">
  import type { Snippet } from "svelte";

  interface Asked {
    data?: unknown;
    error: Error | null;
    isPending: boolean;
    isFetching: boolean;
    isEnabled?: boolean;
  }
  interface Props {
    /** What is asked for. */
    of: Asked;
    /** What it is, to be told while it is not known. */
    what: string;
    /** What is shown once it is known; absent where that stands elsewhere. */
    children?: Snippet;
  }
  const { of, what, children }: Props = $props();
</script>

<!-- No view says anything of what is not known: it says that it is being worked out, that it
  could not be had, or that what is shown may be out of date. -->
{#if of.data === undefined && of.error}
  <p class="text-clash p-4" role="alert">{what} can not be shown: {of.error.message}.</p>
{:else if of.data === undefined}
  {#if of.isPending && of.isFetching}<p class="text-soft p-4" role="status">
      {what}: being worked out…
    </p>{/if}
{:else}
  {#if of.error}
    <p class="text-warn border-warn border-l-4 px-3 py-1" role="alert">
      {what} may be out of date: {of.error.message}.
    </p>
  {/if}
  {@render children?.()}
{/if}
