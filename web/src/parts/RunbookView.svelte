<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { Check, Printer } from "@lucide/svelte";
  import { client, data, type RunbookStep } from "../api/client";
  import { useRunbook, useWorkChanges, writer } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { urlState } from "../lib/url.svelte";
  import Known from "./Known.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const change = urlState("change");
  const book = useRunbook(
    () => design,
    () => change.value,
  );
  const changes = useWorkChanges(() => design);
  const open_ = $derived(changes.data?.filter((c) => c.state === "open") ?? []);
  const parts = (s: RunbookStep): string =>
    (book.data?.changes[s.id] ?? []).map((id) => open_.find((c) => c.id === id)?.title ?? "").join("; ");
  const write = writer(useQueryClient(), () => design);
  const who = urlState("who");
  const open = urlState("step");

  const steps = $derived(book.data?.steps ?? []);
  const people = $derived(
    [...new Set(steps.map((s) => s.who || s.where.split(",")[0] || s.where))].sort((a, b) =>
      a.localeCompare(b),
    ),
  );
  const mine = $derived(steps.filter((s) => !who.value || (s.who || s.where.split(",")[0]) === who.value));
  const windows = [
    ["before", "Before the window", "nothing that works changes; at any time"],
    ["during", "In the window", "what works is interrupted, or goes another way"],
    ["after", "After the window", "at any time once it is over"],
  ] as const;
  const when = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

  /** What is there before and after, and not alike: what is made or taken away is told by what is entered. */
  const changed = (s: RunbookStep) => s.changes.filter((c) => c.text !== "new" && c.text !== "taken away");
  const allThere = (): void => void write.there({}, true, "All of it is there already");

  const day = new Intl.DateTimeFormat(undefined, { dateStyle: "medium" });
  /** What only the doing of a step brings. */
  const needed: Record<string, { label: string; hint: string }> = {
    code: { label: "Order code", hint: "order code" },
    address: { label: "Public addresses", hint: "its public addresses" },
    port: { label: "Port", hint: "its port, as enp3s0" },
  };
  const before = (s: RunbookStep): RunbookStep[] => steps.filter((x) => s.after.includes(x.id));
  const begins = (id: string): string => {
    const s = steps.find((x) => x.id === id);
    return s ? `, once step ${s.n} is done` : "";
  };
  const undone = (t: { step: string; title: string }): void =>
    void write.attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/runbook/undone", {
            params: { path: { design } },
            body: { base: write.base(), step: t.step },
          }),
        ),
      `Not done: ${t.title}`,
    );

  let codes = $state<Record<string, string>>({});
  function done(s: RunbookStep): void {
    void write.attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/runbook/done", {
            params: { path: { design } },
            body: {
              base: write.base(),
              step: s.id,
              ...(change.value ? { change: change.value } : {}),
              ...(s.needs ? { code: codes[s.id] ?? "" } : {}),
            },
          }),
        ),
      `Step done: ${s.does}`,
    );
  }
</script>

<div class="h-full overflow-y-auto print:h-auto print:overflow-visible">
  <div class="mx-auto max-w-5xl px-4 py-3">
    <div class="mb-2 flex flex-wrap items-center gap-2">
      <h1 class="text-lg">
        {#if book.data}
          {steps.length === 1 ? "1 step" : `${steps.length} steps`} to do: {book.data.holds} of {book.data.of} intents
          hold today, {book.data.then} then
        {:else}Runbook{/if}
      </h1>
      <span class="ml-auto flex gap-1.5 print:hidden">
        {#if open_.length > 1 || change.value}
          <select class="field max-w-64" aria-label="Of which change" bind:value={change.value}>
            <option value="">All changes</option>
            {#each open_ as c (c.id)}<option value={c.id}>{c.title}</option>{/each}
          </select>
        {/if}
        {#if people.length > 1}
          <select class="field" aria-label="Whose steps" bind:value={who.value}>
            <option value="">Everybody's steps</option>
            {#each people as p (p)}<option value={p}>{p}</option>{/each}
          </select>
        {/if}
        <button class="button" onclick={() => window.print()}><Printer size={16} />Print</button>
        <a class="button" href={placeURL(design, "proof", { as: "rehearsal", steps: "yes" })}
          >Rehearse the steps</a
        >
      </span>
    </div>
    <Known of={book} what="The runbook" />
    {#if book.data && !steps.length}
      <p class="text-good">
        {change.value ? "✓ All of it that can be done now is done." : "✓ What is built is what is planned."}
      </p>
    {/if}
    {#if steps.length && !change.value}
      <p class="text-soft mb-2 text-sm print:hidden">
        The work is what differs between what is built and what is planned.
        <button class="button" onclick={allThere}>All of it is there already</button>
      </p>
    {/if}
    {#each windows as [key, title, doc] (key)}
      {@const list = mine.filter((s) => s.window === key)}
      {#if list.length}
        <h2 class="mt-4">{title} <span class="text-soft text-sm font-normal">{doc}</span></h2>
        {#each list as s (s.id)}
          <article class="panel mt-2 px-4 py-2 break-inside-avoid" data-testid="step">
            <div class="flex items-baseline gap-2">
              <span class="text-soft w-6 shrink-0 text-right tabular-nums">{s.n}.</span>
              <button
                class="min-w-0 flex-1 text-left"
                aria-expanded={open.value === s.id}
                onclick={() => (open.value = open.value === s.id ? "" : s.id)}
              >
                <span class="font-semibold">{s.where}</span>{#if s.who}<span class="text-soft text-sm"
                    >{` (${s.who})`}</span
                  >{/if}: {s.does}
              </button>
              {#if s.needs}
                <input
                  class="field w-44 print:hidden"
                  aria-label={needed[s.needs]?.label}
                  placeholder={needed[s.needs]?.hint}
                  value={codes[s.id] ?? ""}
                  oninput={(e) => (codes[s.id] = e.currentTarget.value)}
                />
              {/if}
              <button class="button print:hidden" onclick={() => done(s)}><Check size={16} />Done</button>
            </div>
            <div class="ml-8 text-sm">
              {#if open_.length > 1 && parts(s)}<p class="text-soft">Part of {parts(s)}</p>{/if}
              {#each s.down as h (h.intent)}
                <p class="text-clash">× {h.name} is down from then on: {h.why}</p>
              {/each}
              {#each s.moves as h (h.intent)}<p class="text-warn">↷ {h.name} goes another way</p>{/each}
              {#each before(s) as b (b.id)}
                <p class="text-warn">! Not before step {b.n}, which brings an address that this is set to</p>
              {/each}
              {#each s.blinks as h (h.intent)}
                <p class="text-warn">‖ {h.name} pauses for some seconds: {h.why}</p>
              {/each}
              {#if !s.down.length && !s.moves.length && !s.blinks.length}<p class="text-soft">
                  Nothing that works is down meanwhile.
                </p>{/if}
              {#each s.works as h (h.intent)}<p class="text-good">✓ {h.name} works</p>{/each}
            </div>
            <div class="ml-8 text-sm {open.value === s.id ? '' : 'hidden print:block'}">
              {#if s.enter.length}
                <h3 class="label mt-2">{s.files.length ? "Put there" : "Enter"}</h3>
                {#each s.enter as l, n (n)}<p class={l.startsWith("  ") ? "pl-4" : ""}>{l}</p>{/each}
              {/if}
              {#if s.files.length}
                <p class="font-mono">{s.files.map((f) => `/etc/${f}`).join("  ")}</p>
              {/if}
              {#if changed(s).length}
                <h3 class="label mt-2">What changes</h3>
                {#each changed(s) as c (c.id)}
                  <p><span class="font-mono">{c.path}</span>: {c.text}</p>
                {/each}
              {/if}
              {#if s.run.length}
                <h3 class="label mt-2">Run</h3>
                <pre class="bg-mark px-2 py-1 font-mono whitespace-pre-wrap">{s.run
                    .map((r) => r.line)
                    .join("\n")}</pre>
              {/if}
              <h3 class="label mt-2">Check it there and then</h3>
              {#each s.checks as c, n (n)}
                <p>
                  ☐ {c.text}{#if c.line}<code class="ml-2 font-mono">{c.line}</code>{/if}
                  {#if c.intent}<a class="print:hidden" href={placeURL(design, "proof", { intent: c.intent })}
                      >its walk</a
                    >{/if}
                </p>
              {/each}
              <h3 class="label mt-2">The way back</h3>
              {#each s.back as l, n (n)}<p class={s.run.length ? "font-mono" : ""}>{l}</p>{:else}<p
                  class="text-soft"
                >
                  nothing has changed
                </p>{/each}
            </div>
          </article>
        {/each}
      {/if}
    {/each}
    {#if book.data?.gates.length}
      <h2 class="mt-4">What waits for somebody</h2>
      {#each book.data.gates as g (g.object)}
        <p class="text-sm" data-testid="gate">
          {g.text}{g.for ? `, for ${g.for}` : ""}{g.days
            ? `, up to ${g.days === 1 ? "1 day" : `${g.days} days`}`
            : ""}{g.begun ? "" : begins(g.begins)}{book.data.days[g.object]
            ? `: by ${day.format(new Date(book.data.days[g.object] ?? ""))}`
            : ""}
        </p>
      {/each}
    {/if}
    {#if book.data?.cannot.length}
      <h2 class="mt-4">What would not come up</h2>
      {#each book.data.cannot as l (l)}<p class="text-warn text-sm">! {l}</p>{/each}
    {/if}
    {#if book.data?.done.length}
      <h2 class="mt-4">Done</h2>
      {#each book.data.done as t (t.step)}
        <p class="text-sm">
          <span class="text-good">✓</span>
          {t.n ? `${t.n}. ` : ""}{t.title}
          <span class="text-soft">{when.format(new Date(t.at))}, {t.author}</span>
          <button
            class="button print:hidden"
            title="What it said of what is there is not said any more"
            onclick={() => undone(t)}>Not done</button
          >
        </p>
      {/each}
    {/if}
  </div>
</div>
