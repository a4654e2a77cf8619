<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { client, data, Refusal, type Problem } from "../api/client";
  import { complain, useDeleted, useDesigns } from "../api/queries";
  import { goTo } from "../router";
  import { toast } from "svelte-sonner";
  import type { Comparison } from "../api/client";
  import ComparisonDrawer from "../parts/ComparisonDrawer.svelte";
  import DesignRow from "../parts/DesignRow.svelte";

  const queries = useQueryClient();
  const designs = useDesigns();
  const deleted = useDeleted();
  let name = $state("");
  let comparison = $state.raw<{ c: Comparison; a: string; b: string }>();
  let refusal = $state<Problem>();
  let file = $state<HTMLInputElement>();

  type Source = { from: "demo" } | { from: "file"; file: string } | { from: "nothing"; name: string };

  async function create(body: Source): Promise<void> {
    refusal = undefined;
    try {
      const made = await data(client.POST("/api/designs", { body }));
      await queries.invalidateQueries({ queryKey: ["designs"] });
      goTo(made.id, "estate");
    } catch (error) {
      if (error instanceof Refusal) refusal = error.problem;
      else complain(error);
    }
  }

  async function open(): Promise<void> {
    const chosen = file?.files?.[0];
    if (!chosen) return;
    await create({ from: "file", file: await chosen.text() });
    if (file) file.value = "";
  }

  async function lists(change: () => Promise<unknown>): Promise<boolean> {
    try {
      await change();
      return true;
    } catch (error) {
      complain(error);
      return false;
    } finally {
      await Promise.all(["designs", "deleted"].map((key) => queries.invalidateQueries({ queryKey: [key] })));
    }
  }
  async function remove(id: string, what: string): Promise<void> {
    const path = { params: { path: { design: id } } };
    if (await lists(() => data(client.DELETE("/api/designs/{design}", path))))
      toast.success(`${what} is deleted`, {
        action: { label: "Take back", onClick: () => void restore(id) },
      });
  }
  const restore = (id: string) =>
    lists(() => data(client.POST("/api/designs/{design}/restore", { params: { path: { design: id } } })));
  const when = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });
</script>

<svelte:head><title>Designs - Dravin</title></svelte:head>

<main class="mx-auto flex h-full w-full max-w-4xl flex-col gap-6 overflow-y-auto px-6 py-10">
  <h1 class="flex items-center gap-3 text-xl"><img src="/mark.svg" alt="" class="h-7 w-7" />Dravin</h1>
  <section>
    <h2 class="mb-2 text-lg">Designs</h2>
    <ul class="panel">
      {#each designs.data ?? [] as d (d.id)}
        <DesignRow
          design={d}
          others={(designs.data ?? []).filter((o) => o.id !== d.id)}
          changed={() => void queries.invalidateQueries()}
          compared={(c, a, b) => (comparison = { c, a, b })}
          remove={() => void remove(d.id, d.name)}
        />
      {:else}
        <li class="px-4 py-3">
          {designs.error
            ? designs.error.message
            : designs.isPending
              ? "Looking..."
              : "None yet. Begin with one of these."}
        </li>
      {/each}
    </ul>
  </section>
  {#if deleted.data?.length}
    <section aria-label="Deleted">
      <h2 class="mb-2 text-lg">Deleted, kept for 30 days</h2>
      <div class="panel">
        {#each deleted.data as d (d.id)}
          <div class="border-line flex items-baseline gap-4 border-b px-4 py-2.5">
            <span>{d.name}</span>
            <span class="text-soft ml-auto text-sm">deleted {when.format(new Date(d.deletedAt ?? ""))}</span>
            <button class="button" onclick={() => restore(d.id)}>Take back</button>
          </div>
        {/each}
      </div>
    </section>
  {/if}
  <section class="grid gap-3 sm:grid-cols-3" aria-label="New design">
    <div class="panel flex flex-col gap-2 p-3">
      <h3>The demo estate</h3>
      <p class="text-soft text-sm">
        A botanic trust with gardens, huts and three clouds, some of whose ranges collide.
      </p>
      <button class="button mt-auto self-start" onclick={() => create({ from: "demo" })}>Open the demo</button
      >
    </div>
    <div class="panel flex flex-col gap-2 p-3">
      <h3>A design file</h3>
      <p class="text-soft text-sm">YAML, as Dravin writes it. If something is wrong, you learn where.</p>
      <label class="button mt-auto self-start">
        Choose a file<input
          bind:this={file}
          type="file"
          accept=".yaml,.yml,text/*"
          class="sr-only"
          onchange={open}
        />
      </label>
    </div>
    <form
      class="panel flex flex-col gap-2 p-3"
      onsubmit={(e) => {
        e.preventDefault();
        void create({ from: "nothing", name });
      }}
    >
      <h3>Say it, from an empty page</h3>
      <p class="text-soft text-sm">Type what there is, a line at a time, or draw it by hand.</p>
      <label class="label" for="name">Its name</label>
      <input id="name" class="field" bind:value={name} maxlength="80" required />
      <button class="button mt-auto self-start">Begin</button>
    </form>
  </section>
  {#if refusal}
    <section class="panel border-l-clash border-l-4 p-4" role="alert">
      <h3 class="text-clash">Nothing was stored</h3>
      {#each refusal.errors ?? [] as e, n (n)}
        <p class="mt-1 text-sm">
          {#if e.line}<span class="font-mono">line {e.line}, column {e.column}</span>{/if}
          {[e.subject, e.field].filter(Boolean).join(", ")}: {e.why}{e.want ? `; ${e.want}` : ""}
        </p>
      {:else}
        <p class="mt-1">{refusal.detail}</p>
      {/each}
    </section>
  {/if}
</main>
<ComparisonDrawer of={comparison} close={() => (comparison = undefined)} />
