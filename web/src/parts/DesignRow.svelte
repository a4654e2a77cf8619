<script lang="ts">
  import { AlertDialog } from "bits-ui";
  import type { Comparison, Listed } from "../api/client";
  import { client, data } from "../api/client";
  import { complain, useDesign } from "../api/queries";
  import { placeURL } from "../lib/places";

  interface Props {
    design: Listed;
    others: Listed[];
    /** Called after something changed. */
    changed: () => void;
    compared: (c: Comparison, a: string, b: string) => void;
    remove: () => void;
  }
  const { design, others, changed, compared, remove }: Props = $props();
  const state_ = useDesign(() => design.id);
  const broken = $derived(state_.data?.findings.broken ?? 0);
  const risk = $derived(state_.data?.findings.risk ?? 0);
  let renaming = $state(false);
  let deleting = $state(false);
  let name = $state("");
  const when = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });
  const path = $derived({ params: { path: { design: design.id } } });

  async function attempt(write: () => Promise<unknown>): Promise<void> {
    try {
      await write();
    } catch (error) {
      complain(error);
    }
    changed();
  }
  async function rename(e: SubmitEvent): Promise<void> {
    e.preventDefault();
    await attempt(() =>
      data(client.POST("/api/designs/{design}/rename", { ...path, body: { base: design.position, name } })),
    );
    renaming = false;
  }
  const copy = () =>
    attempt(() =>
      data(client.POST("/api/designs/{design}/copy", { ...path, body: { name: `${design.name} copy` } })),
    );
  async function compare(e: Event & { currentTarget: HTMLSelectElement }): Promise<void> {
    const other = others.find((o) => o.id === e.currentTarget.value);
    e.currentTarget.value = "";
    if (!other) return;
    await attempt(async () =>
      compared(
        await data(client.GET("/api/compare", { params: { query: { design: design.id, with: other.id } } })),
        design.name,
        other.name,
      ),
    );
  }
  const focus = (node: HTMLInputElement) => {
    node.focus();
    node.select();
  };
</script>

<li class="border-line flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b px-4 py-2.5">
  {#if renaming}
    <form class="flex flex-1 gap-1.5" onsubmit={rename}>
      <input class="field" aria-label="New name" bind:value={name} maxlength="80" required {@attach focus} />
      <button class="button button-main">Rename</button>
      <button type="button" class="button" onclick={() => (renaming = false)}>Never mind</button>
    </form>
  {:else}
    <a class="font-semibold" href={placeURL(design.id, "estate")}>{design.name}</a>
    <span class="ml-auto flex gap-1.5">
      <button
        class="button"
        onclick={() => {
          name = design.name;
          renaming = true;
        }}>Rename</button
      >
      <button class="button" onclick={copy}>Copy</button>
      {#if others.length}
        <select class="field w-auto py-1" aria-label="Compare {design.name} with" onchange={compare}>
          <option value="">Compare with…</option>
          {#each others as o (o.id)}<option value={o.id}>{o.name}</option>{/each}
        </select>
      {/if}
      <button class="button" onclick={() => (deleting = true)}>Delete</button>
    </span>
  {/if}
  <p class="w-full text-sm">
    {#if state_.data}
      <span class={broken ? "text-clash font-semibold" : risk ? "text-warn" : "text-soft"}
        >{broken ? `${broken} broken` : risk ? `${risk} at risk` : "nothing wrong"}</span
      >,
    {:else if state_.error}<span class="text-warn">not known what is wrong</span>,{:else}<span
        class="text-soft">looking…</span
      >{/if}
    <span class="text-soft"
      >{design.parties} parties, {design.objects} objects; {design.reason
        ? `${design.author}: ${design.reason},`
        : "made"}
      {when.format(new Date(design.updatedAt))}</span
    >
  </p>
  <AlertDialog.Root bind:open={deleting}>
    <AlertDialog.Portal>
      <AlertDialog.Overlay class="bg-ink/25 fixed inset-0 z-30" />
      <AlertDialog.Content
        preventScroll={false}
        class="border-ink bg-sheet fixed top-28 left-1/2 z-40 flex w-[30rem] max-w-[95vw] -translate-x-1/2 flex-col gap-3 border-2 p-4"
      >
        <AlertDialog.Title class="text-lg">Delete {design.name}?</AlertDialog.Title>
        <AlertDialog.Description class="text-sm">
          {design.parties} parties, {design.objects} objects and {design.position} changes go. It can be taken back
          for 30 days.
        </AlertDialog.Description>
        <div class="flex gap-2">
          <AlertDialog.Action
            class="button button-main"
            onclick={() => {
              deleting = false;
              remove();
            }}>Delete it</AlertDialog.Action
          >
          <AlertDialog.Cancel class="button">Keep it</AlertDialog.Cancel>
        </div>
      </AlertDialog.Content>
    </AlertDialog.Portal>
  </AlertDialog.Root>
</li>
