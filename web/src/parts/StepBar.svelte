<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { client, data, type LinkSheet } from "../api/client";
  import { writer } from "../api/queries";

  interface Props {
    design: string;
    sheet: LinkSheet;
  }
  const { design, sheet }: Props = $props();
  const write = writer(useQueryClient(), () => design);

  let asking = $state("");
  let reason = $state("");
  let code = $state("");
  let zone = $state("");
  let expires = $state("");
  /** The lines carry their own fixes. */
  const inLines = $derived(new Set(sheet.lines.flatMap((l) => l.fixes.map((m) => m.title))));
  const steps = $derived(sheet.steps.filter((x) => !inLines.has(x.title)));
  const open = $derived(sheet.requests.find((r) => !r.answer));

  async function answer(accept: boolean): Promise<void> {
    if (!open) return;
    const done = await write.attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/requests/{request}/answer", {
            params: { path: { design, request: open.id } },
            body: { base: write.base(), accept, reason: reason.trim() },
          }),
        ),
      accept ? "Accepted" : "Refused",
    );
    if (done) reason = "";
  }
  async function enter(e: SubmitEvent): Promise<void> {
    e.preventDefault();
    const done = await write.attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/links/{link}/code", {
            params: { path: { design, link: sheet.id } },
            body: { base: write.base(), code: code.trim(), zone: zone.trim(), expires },
          }),
        ),
      "The order code is entered",
    );
    if (done) asking = code = zone = expires = "";
  }
</script>

{#if sheet.track.length}
  <ol class="flex flex-wrap gap-x-1 text-sm" aria-label="How far it has come">
    {#each sheet.track as t, n (n)}
      <li class="flex items-center gap-1 {t.done ? 'text-good' : 'text-soft'}">
        {#if n}<span class="text-soft mx-1" aria-hidden="true">→</span>{/if}
        <span class="font-mono" aria-hidden="true">{t.done ? "✓" : "○"}</span>{t.word}<span class="sr-only"
          >{t.done ? ", done" : ", to do"}</span
        >
      </li>
    {/each}
  </ol>
{/if}
{#if open}
  <section class="border-warn bg-sheet border-l-4 p-3" aria-label="Request to join">
    <p><strong>{open.from}</strong> asks <strong>{open.to}</strong> to join.</p>
    <div class="mt-2 flex flex-wrap items-end gap-2">
      <label class="min-w-64 flex-1"
        ><span class="label">Reason, kept in the history</span>
        <input class="field" bind:value={reason} maxlength="150" /></label
      >
      <button class="button button-main" disabled={!reason.trim()} onclick={() => answer(true)}>Accept</button
      >
      <button class="button" disabled={!reason.trim()} onclick={() => answer(false)}>Refuse</button>
    </div>
  </section>
{:else}
  <div class="flex flex-wrap items-center gap-1.5">
    {#each steps as step (step.key)}
      {#if step.needs === "code"}
        <button class="button" onclick={() => (asking = asking ? "" : step.key)}>{step.title}</button>
      {:else}
        <button
          class="button {step.key === 'gone' ? 'text-soft' : ''}"
          onclick={() => write.change(`${step.title}: ${sheet.name}`, step.edits)}>{step.title}</button
        >
      {/if}
    {/each}
  </div>
  {#if asking}
    <form class="panel flex flex-wrap items-end gap-2 p-3" onsubmit={enter} aria-label="Order code">
      <label class="min-w-56 flex-1"
        ><span class="label">Order code</span><input class="field font-mono" bind:value={code} /></label
      >
      <label><span class="label">Zone it is for</span><input class="field" bind:value={zone} /></label>
      <label><span class="label">Ends on</span><input class="field" type="date" bind:value={expires} /></label
      >
      <button class="button button-main" disabled={!code.trim()}>Enter</button>
    </form>
  {/if}
{/if}
{#each sheet.requests.filter((r) => r.answer) as r (r.id)}
  <p class="text-sm">
    {r.to}
    <strong class={r.answer === "accepted" ? "text-good" : "text-clash"}>{r.answer}</strong> what {r.from} asked:
    {r.reason}
  </p>
{/each}
