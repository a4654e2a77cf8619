<script lang="ts">
  import { Check, Copy, Download, Eye, EyeOff } from "@lucide/svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { toast } from "svelte-sonner";
  import { client, data, positionOf, type Handed, type HandedFile } from "../api/client";
  import { complain, designKey, useHandover, type Target } from "../api/queries";
  import { kindWord } from "../lib/form";
  import { side } from "../lib/side";
  import Known from "./Known.svelte";
  import { download } from "../lib/files";
  import { urlState } from "../lib/url.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const queries = useQueryClient();
  const also = urlState("also");
  const targets: [Target, string][] = [
    ["frr", "FRR"],
    ["keyed", "ipsec.conf"],
    ["networkd", "systemd-networkd"],
    ["zones", "zone files"],
    ["models", "open models (RFC 8512, RFC 9061)"],
    ["device", "device sheet"],
  ];
  const target = $derived(targets.find(([t]) => t === also.value)?.[0] ?? "");
  const handover = useHandover(
    () => design,
    () => target,
  );
  const party = urlState("party");
  const file = urlState("file");

  /** Shown only after asking, forgotten on leaving, never in the URL. */
  let revealed = $state<Handed>();

  /** Those with something to do come first. */
  const filter = urlState("find");
  let most = $state(200);
  const listed = $derived(
    (handover.data ?? []).filter((h) => h.name.toLowerCase().includes(filter.value.trim().toLowerCase())),
  );
  const parts = $derived([
    { word: "", list: listed.filter((h) => h.joints > 0) },
    { word: "Nothing to do yet", list: listed.filter((h) => h.joints === 0) },
  ]);
  const masked = $derived(
    handover.data?.find((h) => h.party === party.value) ?? parts.flatMap((p) => p.list)[0],
  );
  const chosen = $derived(revealed && revealed.party === masked?.party ? revealed : masked);
  const shown = $derived(chosen?.files.find((f) => f.path === file.value) ?? chosen?.files[0]);
  const change = $derived(chosen?.changes.find((c) => c.path === shown?.path));
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
  const when = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });
  async function hand(): Promise<void> {
    if (!chosen) return;
    try {
      await data(
        client.POST("/api/designs/{design}/handover/{party}/handed", {
          params: { path: { design, party: chosen.party }, query: { side: side() } },
          body: { base: positionOf(handover.data) ?? 0 },
        }),
      );
      toast.success(`${chosen.name} has these files; what changes from now on is marked`);
    } catch (error) {
      complain(error);
    }
    await queries.invalidateQueries({ queryKey: designKey(design) });
  }
</script>

<div class="grid h-full grid-cols-[15rem_19rem_1fr]">
  <aside class="border-line overflow-y-auto border-r" aria-label="Parties">
    <h2 class="px-3 pt-3 pb-1">For whom</h2>
    {#if (handover.data?.length ?? 0) > 12}
      <input
        class="field mx-3 mb-1 w-auto"
        aria-label="Filter parties"
        placeholder="Filter parties"
        value={filter.value}
        oninput={(e) => filter.replace(e.currentTarget.value)}
      />
      <p class="text-soft px-3 text-sm">{listed.length} of {handover.data?.length}</p>
    {/if}
    <Known of={handover} what="What is handed over" />
    {#each parts as part (part.word)}
      {#if part.list.length}
        {#if part.word}<h3 class="text-soft px-3 pt-3 pb-1 text-sm">{part.word}: {part.list.length}</h3>{/if}
        {#each part.list.slice(0, most) as h (h.party)}
          <button class="row" aria-current={h.party === chosen?.party} onclick={() => choose(h.party)}>
            {h.name}
            <span class="text-soft block text-sm"
              >{kindWord(h.kind)}, {h.files.length} {h.files.length === 1 ? "file" : "files"}</span
            >
            {#if h.at}
              <span class="block text-sm {h.changed.length ? 'text-warn' : 'text-good'}"
                >{h.changed.length
                  ? `! ${h.changed.length} changed since ${when.format(new Date(h.at))}`
                  : `✓ handed ${when.format(new Date(h.at))}`}</span
              >
            {/if}
          </button>
        {/each}
        {#if part.list.length > most}<button class="button m-3" onclick={() => (most += 300)}
            >{part.list.length - most} more</button
          >{/if}
      {/if}
    {/each}
  </aside>
  <aside class="border-line overflow-y-auto border-r" aria-label="Files">
    <h2 class="px-3 pt-3 pb-1">What they get</h2>
    {#each chosen?.files ?? [] as f (f.path)}
      <button class="row" aria-current={f.path === shown?.path} onclick={() => (file.value = f.path)}>
        <span class="font-mono text-sm wrap-anywhere"
          >{#each f.path.split(/(?<=[/])/) as part, n (n)}<wbr />{part}{/each}</span
        >{#if chosen?.changed.includes(f.path)}<span class="text-warn ml-2 text-sm font-semibold"
            >! changed</span
          >{/if}<span class="text-soft block text-sm">{f.about}</span>
      </button>
    {/each}
    <div class="flex flex-col items-start gap-2 p-3">
      <label class="flex items-center gap-1.5 text-sm"
        >Also as
        <select class="field w-auto" bind:value={also.value}>
          <option value="">nothing else</option>
          {#each targets as [key, word] (key)}<option value={key}>{word}</option>{/each}
        </select></label
      >
      <a
        class="button"
        href="/api/designs/{design}/handover/archive?side={side()}{target ? `&target=${target}` : ''}"
        download
        title="One archive with a folder for each party; files that hold keys are not in it"
        ><Download size={16} />Download all</a
      >
      {#if chosen}
        <a
          class="button"
          href="/api/designs/{design}/handover/{chosen.party}/bundle?side={side()}"
          download
          title="One file with checksums and our signature; keys are not in it"
          ><Download size={16} />Signed bundle</a
        >
      {/if}
      <button
        class="button"
        onclick={hand}
        disabled={!chosen}
        title="Remember these files as what the party has"><Check size={16} />Mark as handed over</button
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
          <button
            class="button"
            disabled={shown.secret && !inClear}
            title={shown.secret && !inClear ? "Its keys are masked: show them first" : undefined}
            onclick={() => save(shown)}><Download size={16} />Download</button
          >
        </span>
      </div>
      {#if shown.secret && !inClear}
        <p class="bg-mark px-4 py-1.5 text-sm">
          Keys are masked. Show them before you copy or download this file.
        </p>
      {/if}
      {#if change}
        <details class="border-line border-b px-4 py-2" open>
          <summary class="text-warn cursor-pointer text-sm font-semibold"
            >! What is another since it was handed over</summary
          >
          <pre
            class="mt-1 max-h-60 overflow-y-auto font-mono text-sm whitespace-pre-wrap">{#each change.diff.split("\n") as line, n (n)}<span
                class={line.startsWith("+") ? "text-good" : line.startsWith("-") ? "text-clash" : "text-soft"}
                >{line + "\n"}</span
              >{/each}</pre>
        </details>
      {/if}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre
        tabindex="0"
        aria-label={shown.path}
        class="min-h-0 flex-1 overflow-y-auto px-4 py-3 font-mono text-sm whitespace-pre-wrap"
        data-testid="file">{#each shown.content.split("\n") as line, n (n)}<span class="wrapped"
            >{line + "\n"}</span
          >{/each}</pre>
    </section>
  {/if}
</div>
