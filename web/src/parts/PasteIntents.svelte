<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { useHeard, writer } from "../api/queries";
  import { asSayings } from "../lib/paste";
  import Drawer from "./Drawer.svelte";

  interface Props {
    design: string;
    open: boolean;
    close: () => void;
  }
  const { design, open, close }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  const example = "Marrow Hill data room, logger, tcp/6514\nvisitors, science, , never";
  let text = $state("");
  let asked = $state("");
  $effect(() => {
    const now = asSayings(text);
    const timer = setTimeout(() => (asked = now), 150);
    return () => clearTimeout(timer);
  });
  const heard = useHeard(
    () => design,
    () => ({ text: asked, line: "", it: "" }),
    () => open && asked !== "",
  );
  const h = $derived(asked ? heard.data : undefined);
  const bad = $derived(h?.lines.filter((l) => l.problems.length).length ?? 0);
  const made = $derived(h?.lines.reduce((n, l) => n + l.does.filter((d) => d.new).length, 0) ?? 0);
  async function apply(): Promise<void> {
    const pasted = text;
    if (h && (await write.change(`Bring in ${made} intents`, h.edits)) && text === pasted) {
      text = "";
      close();
    }
  }
</script>

<Drawer title="Paste intents" {open} {close}>
  <div class="flex flex-col gap-3 p-4">
    <label class="flex flex-col gap-1"
      ><span>One a line: source, destination, service; and, if so, never or survives</span>
      <textarea class="field font-mono text-sm" rows="8" bind:value={text} placeholder={example}
      ></textarea></label
    >
    {#if h}
      <p role="status">{made} new{bad ? `, ${bad} not understood` : ""}</p>
      <ol class="max-h-[45vh] overflow-y-auto text-sm" aria-label="Preview">
        {#each h.lines as l, n (n)}
          {#if l.text.trim()}
            <li class="border-line border-b py-1">
              {#each l.problems as p, k (k)}
                <p><span class="font-mono">{l.text}</span></p>
                <p class="text-clash">line {n + 1}: {p.why}{p.want ? `; ${p.want}` : ""}</p>
              {:else}
                {#each l.does as d, k (k)}<p>{d.text}</p>{/each}
              {/each}
            </li>
          {/if}
        {/each}
      </ol>
      <button class="button button-main self-start" disabled={h.wrong || !h.edits.length} onclick={apply}
        >Bring in {made}</button
      >
    {:else if heard.error}<p class="text-clash" role="alert">{heard.error.message}</p>{/if}
  </div>
</Drawer>
