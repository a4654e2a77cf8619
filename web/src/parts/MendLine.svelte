<script lang="ts">
  import type { ImportItem } from "../api/client";

  interface Props {
    item: ImportItem;
    header: string[];
    mend: (line: number, cells: string[]) => void;
    close: () => void;
  }
  const { item, header, mend, close }: Props = $props();
  // A mended line starts as the file has it, and keeps what a person types while the preview stays.
  const cells = $derived(header.map((_, n) => item.cells?.[n] ?? ""));
</script>

<form
  class="panel flex flex-col gap-2 p-3"
  aria-label="Mend line {item.line}"
  onsubmit={(e) => {
    e.preventDefault();
    mend(item.line, cells);
  }}
>
  <p><span class="font-semibold">Line {item.line}</span> {item.why}</p>
  <div class="flex flex-wrap gap-2">
    {#each header as h, n (n)}
      <label class="label">{h || `column ${n + 1}`} <input class="field w-40" bind:value={cells[n]} /></label>
    {/each}
  </div>
  <div class="flex gap-2">
    <button class="button button-main">Try this line again</button>
    <button class="button" type="button" onclick={close}>Leave it</button>
  </div>
</form>
