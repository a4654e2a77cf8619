<script lang="ts">
  import { Download } from "@lucide/svelte";
  import { DropdownMenu } from "bits-ui";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const formats = [
    { key: "yaml", word: "YAML", what: "the whole design" },
    { key: "csv", word: "CSV", what: "the stock" },
    { key: "xlsx", word: "XLSX", what: "the stock" },
  ];
</script>

<DropdownMenu.Root>
  <DropdownMenu.Trigger class="button" title="Take the design out as a file"
    ><Download size={16} />Take out</DropdownMenu.Trigger
  >
  <DropdownMenu.Portal>
    <DropdownMenu.Content preventScroll={false} sideOffset={2} class="border-ink bg-sheet z-30 border-2 py-1">
      {#each formats as f (f.key)}
        <DropdownMenu.Item>
          {#snippet child({ props })}
            <a
              {...props}
              class="data-[highlighted]:bg-mark text-ink block px-4 py-1 no-underline"
              href="/api/designs/{design}/file?format={f.key}"
              download>{f.word} <span class="text-soft">{f.what}</span></a
            >
          {/snippet}
        </DropdownMenu.Item>
      {/each}
    </DropdownMenu.Content>
  </DropdownMenu.Portal>
</DropdownMenu.Root>
