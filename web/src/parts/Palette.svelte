<script lang="ts">
  import { Command, Dialog } from "bits-ui";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { searchParams } from "sv-router";
  import { toast } from "svelte-sonner";
  import type { Heard } from "../api/client";
  import { useEstate, useHeard, useSearch, writer } from "../api/queries";
  import { doable, saying, taken } from "../lib/say";
  import { twoParties } from "../lib/links";
  import { places } from "../lib/places";
  import { goTo } from "../router";

  interface Props {
    design: string;
    open: boolean;
    close: () => void;
    undo: () => void;
    redo: () => void;
    /** What undo and redo would act on; empty: nothing. */
    undoes: string;
    redoes: string;
  }
  const { design, open, close, undo, redo, undoes, redoes }: Props = $props();

  let text = $state("");
  let asked = $state("");
  $effect(() => {
    const now = text;
    const timer = setTimeout(() => (asked = now), 120);
    return () => clearTimeout(timer);
  });
  const found = useSearch(
    () => design,
    () => asked,
  );

  /** The object that the word "it" means. */
  const it = $derived(String(searchParams.get("sel") ?? ""));
  /** What would be done if the text is meant to be said. */
  const heard = useHeard(
    () => design,
    () => ({ text: asked, line: asked, it }),
    () => open && saying(asked),
  );
  const h = $derived(asked === text && saying(asked) ? heard.data : undefined);
  const trouble = $derived(h?.lines.flatMap((l) => l.problems)[0]);
  const write = writer(useQueryClient(), () => design);
  const said = $derived.by<Item[]>(() => {
    const now = h;
    if (!now || !doable(now)) return [];
    const title = now.lines.flatMap((l) => l.does.map((d) => d.text)).join("; ");
    return [{ key: "say", title, hint: "do it", run: () => void sayIt(now), goes: true }];
  });
  async function sayIt(h: Heard): Promise<void> {
    if (h.edits.length) {
      close();
      const line = asked;
      if (!(await write.say({ text: line, line, it }, h))) {
        toast.error(`Not taken: “${line}”`, { duration: 20_000 });
        return;
      }
    }
    if (h.leads) goTo(design, "plan", { party: [h.leads.a, ...h.leads.b].join(",") });
  }
  /** Tab takes what may come next. */
  function complete(e: KeyboardEvent): void {
    const offer = h?.offers[0];
    if (e.key !== "Tab" || e.shiftKey || !offer) return;
    e.preventDefault();
    text = taken(text, text.length, offer).text;
  }

  interface Item {
    key: string;
    title: string;
    hint: string;
    run: () => void;
    /** It leads to a URL of its own. */
    goes: boolean;
  }
  const to = (place: string, search?: Record<string, string>) => () => goTo(design, place, search);
  const actions = $derived<Item[]>(
    [
      ...places.map((x) => ({
        key: x.path,
        title: `Go to ${x.name}`,
        hint: x.key,
        run: to(x.path),
        goes: true,
      })),
      {
        key: "plan-who",
        title: "Plan who must talk: join and translate",
        hint: "",
        run: to("plan"),
        goes: true,
      },
      {
        key: "study",
        title: "Compare shapes as the estate grows",
        hint: "",
        run: to("links", { as: "study" }),
        goes: true,
      },
      {
        key: "matrix",
        title: "Matrix: who reaches whom, against what is meant",
        hint: "",
        run: to("proof", { as: "matrix" }),
        goes: true,
      },
      {
        key: "drills",
        title: "Drills: what dies and what moves when something fails",
        hint: "",
        run: to("proof", { as: "drills" }),
        goes: true,
      },
      {
        key: "whatif",
        title: "Routes before and after: what changes without something",
        hint: "",
        run: to("routes", { as: "whatif" }),
        goes: true,
      },
      {
        key: "profiles",
        title: "Provider profiles: what each cloud allows",
        hint: "",
        run: to("links", { as: "profiles" }),
        goes: true,
      },
      ...(undoes ? [{ key: "undo", title: `Undo: ${undoes}`, hint: "Ctrl-Z", run: undo, goes: false }] : []),
      ...(redoes
        ? [{ key: "redo", title: `Redo: ${redoes}`, hint: "Ctrl-Shift-Z", run: redo, goes: false }]
        : []),
    ].filter((x) => x.title.toLowerCase().includes(text.trim().toLowerCase())),
  );
  const objects = $derived<Item[]>(
    // What was found for an older text must not be there to be chosen.
    (asked === text ? (found.data ?? []) : []).map((f) => ({
      key: f.id + f.hint,
      title: f.title,
      hint: `${f.kind}, ${f.hint}`,
      run: runFor(f),
      goes: true,
    })),
  );

  const joins = ["link", "circuit", "peering", "attachment"];
  function runFor(f: { id: string; kind: string }): () => void {
    if (f.kind === "intent") return to("proof", { intent: f.id });
    return joins.includes(f.kind) ? to("links", { link: f.id }) : to("estate", { sel: f.id });
  }

  const estate = useEstate(() => design);
  /** "Saltmarsh to catalogue" means that the two must talk. */
  const pairs = $derived<Item[]>(
    twoParties(text, estate.data?.parties ?? []).map(([a, b]) => ({
      key: `draft ${a.id} ${b.id}`,
      title: `Plan: ${a.name} with ${b.name}`,
      hint: "",
      run: to("plan", { party: `${a.id},${b.id}` }),
      goes: true,
    })),
  );

  const withTables = ["gateway", "table", "hub-table", "edge-router", "inner-route"];
  /** The table of what was found, and a prefix or address that is typed, under Routes. */
  const routes = $derived<Item[]>([
    ...(asked === text &&
    /^(\d+(\.\d+){3}|[0-9a-f:]*::[0-9a-f:]*|[0-9a-f]+(:[0-9a-f]+){7})(\/\d+)?$/i.test(text.trim())
      ? [
          {
            key: "spread",
            title: `Where ${text.trim()} is routed`,
            hint: "Routes",
            run: to("routes", { as: "prefix", prefix: text.trim() }),
            goes: true,
          },
        ]
      : []),
    ...(asked === text ? (found.data ?? []) : [])
      .filter((f) => withTables.includes(f.kind))
      .map((f) => ({
        key: `table ${f.id}`,
        title: `Table of ${f.title}`,
        hint: "Routes",
        run: to("routes", { table: f.id }),
        goes: true,
      })),
  ]);

  const items = $derived([...said, ...pairs, ...objects, ...routes, ...actions]);
  /** What Enter would take: the first, unless the arrows have moved on to another that is still listed. */
  let selected = $state("");
  $effect(() => {
    if (!items.some((i) => i.key === selected)) selected = items[0]?.key ?? "";
  });

  function choose(item: Item): void {
    text = "";
    // Going elsewhere leaves the palette behind with the rest of the URL; closing it too would go back.
    if (!item.goes) close();
    item.run();
  }
</script>

<Dialog.Root {open} onOpenChange={(now) => !now && close()}>
  <Dialog.Portal>
    <Dialog.Overlay class="bg-ink/25 fixed inset-0 z-10" />
    <Dialog.Content
      preventScroll={false}
      class="border-ink bg-sheet fixed top-20 left-1/2 z-20 w-[40rem] max-w-[95vw] -translate-x-1/2 border-2"
    >
      <Dialog.Title class="sr-only">Find</Dialog.Title>
      <Command.Root shouldFilter={false} bind:value={selected}>
        <Command.Input
          bind:value={text}
          onkeydown={complete}
          aria-controls="palette-list"
          placeholder="A name, an address, something to do, or say it: site Fern Lodge with lan /24"
          class="border-line w-full border-b bg-transparent px-4 py-3 text-lg outline-none"
        />
        {#if trouble}
          <p class="border-line border-b px-4 py-1.5 text-sm" role="status">
            <span class="text-warn">{trouble.why}</span>{trouble.want ? `; ${trouble.want}` : ""}
          </p>
        {/if}
        {#if h?.offers.length}
          <p class="border-line flex flex-wrap gap-1.5 border-b px-4 py-1.5 text-sm">
            {#each h.offers.slice(0, 6) as o, n (o.text + o.from)}
              <button
                class="button px-1.5 py-0 font-mono text-xs"
                title={o.hint}
                onclick={() => (text = taken(text, text.length, o).text)}>{o.text}{n ? "" : " ⇥"}</button
              >
            {/each}
          </p>
        {/if}
        <Command.List id="palette-list" class="max-h-96 overflow-y-auto py-1">
          {#each items as item (item.key)}
            <Command.Item
              value={item.key}
              onSelect={() => choose(item)}
              class="data-[selected]:bg-mark flex cursor-pointer items-baseline gap-3 px-4 py-1.5"
            >
              <span class="shrink-0">{item.title}</span><span class="text-soft ml-auto truncate text-sm"
                >{item.hint}</span
              >
            </Command.Item>
          {:else}
            <p class="text-soft px-4 py-3">
              {found.isPending ? "Looking..." : "Nothing is called that, and nobody has that address."}
            </p>
          {/each}
        </Command.List>
      </Command.Root>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
