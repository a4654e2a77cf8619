<script lang="ts" generics="K extends string">
  import { ToggleGroup } from "bits-ui";

  interface Props {
    /** What is chosen, for those who do not see it. */
    label: string;
    options: readonly { key: K; word: string; title?: string }[];
    value: K;
    choose: (key: K) => void;
  }
  const { label, options, value, choose }: Props = $props();
</script>

<!-- One of a few. An empty key is a value like any other. -->
<ToggleGroup.Root
  type="single"
  class="flex"
  aria-label={label}
  value={`=${value}`}
  onValueChange={(v) => choose((v || `=${value}`).slice(1) as K)}
>
  {#each options as o (o.key)}
    <ToggleGroup.Item
      value={`=${o.key}`}
      title={o.title}
      class="button not-first:-ml-px {value === o.key ? 'bg-mark z-[1] font-semibold' : 'text-soft'}"
      >{o.word}</ToggleGroup.Item
    >
  {/each}
</ToggleGroup.Root>
