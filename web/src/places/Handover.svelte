<script lang="ts">
  import { Copy, Download, Eye, EyeOff } from "@lucide/svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { toast } from "svelte-sonner";
  import { client, data, type Handed, type HandedFile } from "../api/client";
  import { complain, designKey, useHandover } from "../api/queries";
  import { download } from "../lib/files";
  import { urlState } from "../lib/url.svelte";
  import { route } from "../router";

  const design = $derived(route.params.design ?? "");
  const queries = useQueryClient();
  const handover = useHandover(() => design);
  const party = urlState("party");
  const file = urlState("file");

  /** Shown only after asking, forgotten on leaving, never in the URL. */
  let revealed = $state<Handed>();

  const masked = $derived(handover.data?.find((h) => h.party === party.value) ?? handover.data?.[0]);
  const chosen = $derived(revealed && revealed.party === masked?.party ? revealed : masked);
  const shown = $derived(chosen?.files.find((f) => f.path === file.value) ?? chosen?.files[0]);
  const inClear = $derived(chosen !== undefined && chosen === revealed);

  function choose(id: string): void {
    revealed = undefined;
    file.value = "";
    party.value = id;
  }
  async function reveal(): Promise<void> {
    if (!chosen) return;
    try {
      revealed = await data(
        client.POST("/api/designs/{design}/handover/{party}/reveal", {
          params: { path: { design, party: chosen.party } },
        }),
      );
    } catch (error) {
      complain(error);
    }
    await queries.invalidateQueries({ queryKey: designKey(design) });
  }
  async function copy(f: HandedFile): Promise<void> {
    await navigator.clipboard.writeText(f.content);
    toast.success(`${f.path} copied`);
  }
  const save = (f: HandedFile) => download(f.path.split("/").at(-1) ?? "file.txt", f.content);
  import Known from "../parts/Known.svelte";
</script>

<div class="grid h-full grid-cols-[15rem_19rem_1fr]">
  <aside class="border-line overflow-y-auto border-r" aria-label="Parties">
    <h2 class="px-3 pt-3 pb-1">For whom</h2>
    <Known of={handover} what="What is handed over" />
    {#each handover.data ?? [] as h (h.party)}
      <button class="row" aria-current={h.party === chosen?.party} onclick={() => choose(h.party)}>
        {h.name}<span class="text-soft block text-sm"
          >{h.kind}, {h.files.length} {h.files.length === 1 ? "file" : "files"}</span
        >
      </button>
    {/each}
  </aside>
  <aside class="border-line overflow-y-auto border-r" aria-label="Files">
    <h2 class="px-3 pt-3 pb-1">What they get</h2>
    {#each chosen?.files ?? [] as f (f.path)}
      <button class="row" aria-current={f.path === shown?.path} onclick={() => (file.value = f.path)}>
        <span class="font-mono text-sm break-all">{f.path}</span><span class="text-soft block text-sm"
          >{f.about}</span
        >
      </button>
    {/each}
    <div class="flex flex-col items-start gap-2 p-3">
      <button class="button" onclick={() => chosen?.files.forEach(save)}
        ><Download size={16} />Download all</button
      >
    </div>
  </aside>
  {#if shown}
    <section class="flex min-w-0 flex-col overflow-hidden">
      <div class="border-line flex items-center gap-1.5 border-b px-4 py-2">
        <h1 class="truncate font-mono" title={shown.path}>{shown.path}</h1>
        <span class="ml-auto flex gap-1.5">
          {#if shown.secret && inClear}
            <button class="button" onclick={() => (revealed = undefined)}
              ><EyeOff size={16} />Mask keys</button
            >
          {:else if shown.secret}
            <button class="button" onclick={reveal} title="The history records that you asked"
              ><Eye size={16} />Show keys</button
            >
          {/if}
          <button class="button" onclick={() => copy(shown)}><Copy size={16} />Copy</button>
          <button class="button" onclick={() => save(shown)}><Download size={16} />Download</button>
        </span>
      </div>
      {#if shown.secret && !inClear}
        <p class="bg-mark px-4 py-1.5 text-sm">
          Keys are masked. Show them before you copy or download this file.
        </p>
      {/if}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre
        tabindex="0"
        aria-label={shown.path}
        class="min-h-0 flex-1 overflow-auto px-4 py-3 font-mono text-sm"
        data-testid="file">{shown.content}</pre>
    </section>
  {/if}
</div>
