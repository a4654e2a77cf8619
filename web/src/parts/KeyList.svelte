<script lang="ts">
  import { places } from "../lib/places";
  import Drawer from "./Drawer.svelte";

  interface Props {
    open: boolean;
    close: () => void;
  }
  const { open, close }: Props = $props();

  const keys: [string, string][] = [
    ...places.map((x): [string, string] => [x.key, `Go to ${x.name}`]),
    ["Ctrl-K", "Find an object, an address or an action"],
    ["f", "Findings"],
    ["Ctrl-Z", "Undo"],
    ["Ctrl-Shift-Z", "Redo"],
    ["Tab, Enter", "While saying: take what may come next; do it"],
    ["/", "Picture: find a party"],
    ["+  -  0", "Picture and ruler: zoom in, out; picture: show all"],
    ["Arrows", "Picture and ruler: move; table: from cell to cell"],
    ["t", "Today, or when built"],
    ["Tab", "Walk through what can be chosen, and choose it"],
    ["Esc", "Close what is open"],
    ["?", "This list"],
  ];
</script>

<Drawer title="Keys" {open} {close}>
  <dl class="grid grid-cols-[9rem_1fr] gap-y-2 p-4">
    {#each keys as [key, does] (key)}
      <dt><kbd class="border-rule border px-1.5 font-mono">{key}</kbd></dt>
      <dd>{does}</dd>
    {/each}
  </dl>
</Drawer>
