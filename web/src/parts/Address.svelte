<script lang="ts">
  import { toast } from "svelte-sonner";

  interface Props {
    value: string;
    /** Draws the eye where an address has just changed. */
    changed?: boolean;
  }
  const { value, changed = false }: Props = $props();

  async function copy(e: MouseEvent): Promise<void> {
    e.stopPropagation();
    await navigator.clipboard.writeText(value);
    toast.success(`${value} copied`);
  }
</script>

<button
  type="button"
  class="hover:bg-mark font-mono whitespace-nowrap {changed
    ? 'bg-mark underline decoration-2 underline-offset-2'
    : ''}"
  onclick={copy}
  title={changed ? `${value} (just translated); click to copy` : "Click to copy"}>{value}</button
>
