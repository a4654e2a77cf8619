<script lang="ts">
  import { Plus } from "@lucide/svelte";
  import { DropdownMenu } from "bits-ui";
  import { kindWord } from "../lib/form";
  import { topKinds } from "../lib/kinds";

  interface Props {
    add: (kind: string) => void;
  }
  const { add }: Props = $props();
</script>

<DropdownMenu.Root>
  <DropdownMenu.Trigger class="button"><Plus size={16} />Add</DropdownMenu.Trigger>
  <DropdownMenu.Portal>
    <DropdownMenu.Content
      preventScroll={false}
      sideOffset={2}
      class="border-ink bg-sheet z-30 max-h-[70vh] overflow-y-auto border-2 py-1"
    >
      {#each topKinds as k (k)}
        <DropdownMenu.Item
          class="data-[highlighted]:bg-mark cursor-pointer px-4 py-1"
          onSelect={() => setTimeout(() => add(k))}>{kindWord(k)}</DropdownMenu.Item
        >
      {/each}
    </DropdownMenu.Content>
  </DropdownMenu.Portal>
</DropdownMenu.Root>
