<script lang="ts">
  import { createQuery, useQueryClient } from "@tanstack/svelte-query";
  import { designKey, readRules, writer } from "../api/queries";
  import Drawer from "./Drawer.svelte";

  interface Props {
    design: string;
    /** The filter that gets the rules; empty: closed. */
    filter: string;
    close: () => void;
  }
  const { design, filter, close }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  const example = "action,protocol,port,source,destination\nallow,tcp,502,10.214.0.0/22,192.168.216.17";
  const most = 200;
  let text = $state("");
  let replace = $state(true);
  let asked = $state("");
  $effect(() => {
    const now = text;
    const timer = setTimeout(() => (asked = now), 200);
    return () => clearTimeout(timer);
  });
  const read = createQuery(() => ({
    queryKey: [...designKey(design), "rules", filter, asked, replace],
    queryFn: () => readRules(design, { text: asked, filter, replace }),
    enabled: filter !== "" && asked.trim() !== "",
  }));
  const preview = $derived(asked.trim() ? read.data : undefined);
  async function apply(): Promise<void> {
    const pasted = text;
    if (preview && (await write.change(`Bring in ${preview.rules.length} rules`, preview.edits, true))) {
      if (text !== pasted) return; // it was typed on meanwhile
      text = "";
      close();
    }
  }
</script>

<Drawer title="Paste rules" open={filter !== ""} {close}>
  <div class="flex flex-col gap-3 p-4">
    <label class="flex flex-col gap-1"
      ><span>What <code class="font-mono">nft list ruleset</code> prints, or a table with a heading</span>
      <textarea class="field font-mono text-sm" rows="10" bind:value={text} placeholder={example}
      ></textarea></label
    >
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={replace} />In place of the rules that are there</label
    >
    {#if preview}
      <p role="status">
        {preview.rules.length} rule{preview.rules.length === 1 ? "" : "s"}{preview.problems.length
          ? `, ${preview.problems.length} not understood and left out`
          : ""}
      </p>
      <ol class="max-h-[40vh] overflow-y-auto text-sm" aria-label="Preview">
        {#each preview.rules.slice(0, most) as r, n (n)}
          <li class="border-line border-b py-1"><span class="text-soft">line {r.line}:</span> {r.text}</li>
        {/each}
        {#if preview.rules.length > most}<li class="text-soft py-1">
            and {preview.rules.length - most} more
          </li>{/if}
        {#each preview.problems.slice(0, most) as p, n (n)}
          <li class="border-line text-clash border-b py-1">
            {p.line ? `line ${p.line}: ` : ""}{p.why}{p.want ? `; ${p.want}` : ""}
          </li>
        {/each}
      </ol>
      <button
        class="button button-main self-start"
        disabled={!preview.edits.length || asked !== text}
        onclick={apply}>Bring in {preview.rules.length}</button
      >
    {:else if read.error}<p class="text-clash" role="alert">{read.error.message}</p>{/if}
  </div>
</Drawer>
