<script lang="ts">
  import { FolderOpen } from "@lucide/svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { client, data, Refusal, type Compared, type LinkSheet } from "../api/client";
  import { writer } from "../api/queries";
  import LineTable from "./LineTable.svelte";

  interface Props {
    design: string;
    sheet: LinkSheet;
    tunnel: string;
    done: () => void;
  }
  const { design, sheet, tunnel, done }: Props = $props();
  const write = writer(useQueryClient(), () => design);

  const ends = $derived<[string, string]>([sheet.ends[0]?.title ?? "", sheet.ends[1]?.title ?? ""]);
  const example =
    "remote address: 198.51.100.10\nIKE proposals: aes256-sha256-modp2048\nlocal ranges: 10.208.0.0/16";
  let end = $state(1);
  let text = $state("");
  let compared = $state.raw<Compared>();
  let refused = $state("");
  let choice = $state("");
  const differing = $derived(compared?.lines.filter((l) => l.verdict === "differs") ?? []);
  const beware = $derived(compared?.lines.filter((l) => l.verdict === "beware") ?? []);

  const send = (record: boolean) =>
    data(
      client.POST("/api/designs/{design}/tunnels/{tunnel}/sent", {
        params: { path: { design, tunnel } },
        body: { end, text, record, base: write.base(), choice },
      }),
    );
  /** Of several connections in a file one is compared; which is asked where the addresses do not tell. */
  async function compare(of = ""): Promise<void> {
    choice = of;
    refused = "";
    compared = undefined;
    try {
      compared = await send(false);
    } catch (error) {
      refused =
        error instanceof Refusal && error.problem.errors?.length
          ? error.problem.errors
              .map((p) => `${p.line ? `line ${p.line}: ` : ""}${p.why}${p.want ? `; ${p.want}` : ""}`)
              .join("\n")
          : error instanceof Error
            ? error.message
            : "it could not be read";
    }
  }
  async function record(): Promise<void> {
    if (await write.attempt(() => send(true), `Recorded as ${ends[end]}'s settings`)) done();
  }
  async function load(e: Event): Promise<void> {
    const file = (e.currentTarget as HTMLInputElement).files?.[0];
    if (file) text = await file.text();
  }
</script>

<section class="panel flex flex-col gap-2 p-3" aria-label="What the far end sent">
  <div class="flex flex-wrap items-center gap-3">
    <h3>What the far end sent</h3>
    <label class="flex items-center gap-1.5"
      ><span class="label">It is of</span>
      <select class="field w-auto" bind:value={end}>
        {#each ends as title, n (n)}<option value={n}>{title}</option>{/each}
      </select></label
    >
    <label class="button"
      ><FolderOpen size={16} />Load a file<input type="file" class="sr-only" onchange={load} /></label
    >
    <button class="button ml-auto" onclick={done}>Close</button>
  </div>
  <label
    ><span class="label"
      >A list of parameters, one to a line; the settings of the IPsec daemon in either style, of BIRD or FRR;
      or what ip -j address and nft -j list ruleset say. Keys in it are compared and sealed, never shown.</span
    >
    <textarea
      class="field h-36 font-mono text-sm"
      bind:value={text}
      aria-label="What they sent"
      placeholder={example}></textarea></label
  >
  <p class="flex items-center gap-3">
    <button class="button {compared ? '' : 'button-main'}" disabled={!text.trim()} onclick={() => compare()}
      >Compare</button
    >
    {#if compared && !compared.choices.length}
      <strong class="whitespace-nowrap {differing.length ? 'text-clash' : 'text-good'}"
        >{differing.length === 0
          ? "Nothing differs"
          : differing.length === 1
            ? "1 line differs"
            : `${differing.length} lines differ`}</strong
      >
      <span class="text-soft">of {compared.given.length} that were given: {compared.outcome.why}</span>
      <button class="button button-main ml-auto" onclick={record}>Record it for {ends[end]}</button>
    {/if}
  </p>
  {#if refused}<p role="alert" class="text-clash whitespace-pre-line">{refused}</p>{/if}
  {#if compared?.choices.length}
    <p>The file has several connections, and their addresses do not tell which is this one. Choose it:</p>
    <p class="flex flex-wrap gap-1.5">
      {#each compared.choices as c (c.name)}
        <button class="button" onclick={() => compare(c.name)}
          >{c.name}<span class="text-soft text-sm">{c.about}</span></button
        >
      {/each}
    </p>
  {:else if compared}
    {#if compared.taken}<p class="text-soft text-sm">It is the connection {compared.taken}.</p>{/if}
    {#each compared.aside as p, n (n)}
      <p class="text-soft text-sm">{p.line ? `line ${p.line}: ` : ""}not compared: {p.why}</p>
    {/each}
    {#each compared.problems as p, n (n)}
      <p class="text-warn text-sm">
        {p.line ? `line ${p.line}: ` : ""}{p.why}{p.want ? `; ${p.want}` : ""}
      </p>
    {/each}
    {#if differing.length + beware.length}
      <LineTable lines={[...differing, ...beware]} {ends} caption="What differs" />
    {/if}
  {/if}
</section>
