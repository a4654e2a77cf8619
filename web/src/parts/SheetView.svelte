<script lang="ts">
  import { Pencil, Trash2, X } from "@lucide/svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { NamedObject } from "../api/client";
  import { useForm, useObject, writer, type FormQuestion } from "../api/queries";
  import { kindWord, written, type Values } from "../lib/form";
  import { placeURL } from "../lib/places";
  import { side } from "../lib/side";
  import Address from "./Address.svelte";
  import CopyDialog from "./CopyDialog.svelte";
  import FormDrawer from "./FormDrawer.svelte";
  import RemovalDialog from "./RemovalDialog.svelte";
  import StatusLine from "./StatusLine.svelte";
  import Fixes from "./Fixes.svelte";

  interface Props {
    design: string;
    id: string;
    select: (id: string) => void;
    /** Begins to look for the other end of a link. */
    plan: (id: string) => void;
  }
  const { design, id, select, plan }: Props = $props();
  const sheet = useObject(
    () => design,
    () => id,
  );
  const s = $derived(sheet.data);

  const form = useForm(
    () => design,
    () => ({ object: id }),
    () => id !== "",
  );
  const write = writer(useQueryClient(), () => design);

  interface Line {
    keys: (string | number)[];
    label: string;
    text: string;
    /** Where a reference leads; it is not edited as text. */
    to?: string;
    address: boolean;
  }

  /** A body's fields as lines. References are given by title. */
  function lines(value: unknown, keys: (string | number)[], label: string): Line[] {
    if (Array.isArray(value))
      return value.flatMap((v, n) => lines(v, [...keys, n], value.length > 1 ? `${label} ${n + 1}` : label));
    if (value !== null && typeof value === "object") {
      return Object.entries(value).flatMap(([k, v]) => lines(v, [...keys, k], label ? `${label}, ${k}` : k));
    }
    const text = value === true ? "yes" : String(value);
    const title = s?.names[text];
    return [
      {
        keys,
        label: words(label),
        text: title ?? text,
        to: title && text,
        address: !title && /^[0-9a-f]*[.:][0-9a-f.:/]+$/i.test(text),
      },
    ];
  }

  let editing = $state<{ keys: string; text: string }>();
  const focus = (node: HTMLInputElement) => node.focus();

  async function save(keys: (string | number)[]): Promise<void> {
    const text = editing?.text.trim() ?? "";
    editing = undefined;
    if (!s) return;
    const seen = s.object;
    /** What is there when it is its turn: an edit before may just have been answered. */
    const now = () => (s?.object.id === seen.id ? s.object : seen);
    await write.change(`Change ${seen.name}`, () => {
      const before = now();
      const object =
        keys[0] === "name" && keys.length === 1
          ? { ...before, name: text }
          : { ...before, body: written(form.data?.fields ?? [], before.body as Values, keys, text) };
      if (JSON.stringify(object) === JSON.stringify(before)) return [];
      return [{ op: "put", id: before.id, object: object as NamedObject }];
    });
  }
  const parts = $derived(form.data?.inside ?? []);
  /** What the form is open for. */
  let making = $state.raw<FormQuestion>();
  let removing = $state.raw<string[]>([]);
  let copying = $state("");
  const party = $derived(["site", "network", "hub", "edge-router", "outside"].includes(s?.object.kind ?? ""));
  const singular: Record<string, string> = {
    prefixes: "prefix",
    addresses: "address",
    blocks: "block",
    ends: "end",
    fixed: "cannot change",
  };
  const words = (path: string) =>
    path
      .split(", ")
      .map((part) => part.replace(/^\w+/, (w) => singular[w] ?? w))
      .join(", ");
</script>

{#if s}
  <article class="flex flex-col gap-4 p-4">
    <header class="flex items-start gap-2">
      <div>
        <p class="label">{kindWord(s.object.kind)}</p>
        <h2 class="text-lg">{s.object.name}</h2>
        <p class="text-soft font-mono text-xs">{s.path}</p>
      </div>
      <button
        class="button ml-auto"
        aria-label="Remove it"
        title="Remove it; what goes with it is told first"
        onclick={() => (removing = [s.object.id])}><Trash2 size={16} /></button
      >
      <button class="button" aria-label="Close the sheet" onclick={() => select("")}><X size={16} /></button>
    </header>
    {#if party}
      <p class="flex flex-wrap gap-1.5">
        {#if s.object.kind !== "outside"}<button class="button" onclick={() => plan(s.object.id)}
            >Must talk with…</button
          >{/if}
        {#if s.object.kind !== "hub" && s.object.kind !== "edge-router"}<button
            class="button"
            onclick={() => (copying = s.object.id)}>More like this</button
          >{/if}
        <button class="button" onclick={() => (making = { kind: s.object.kind })}>Another beside it</button>
      </p>
    {:else if ["link", "peering", "circuit", "attachment"].includes(s.object.kind)}
      <p><a class="button" href={placeURL(design, "links", { link: s.object.id })}>Two-ended sheet</a></p>
    {/if}
    {#if side() === "built"}
      <p class="text-sm">
        <button
          class="button"
          title="The plan stays as it is"
          onclick={() => void write.there({ objects: [s.object.id] }, false, `${s.title} is not there`)}
          >It is not there</button
        >
      </p>
    {:else if s.built !== "as-planned"}
      <p class="flex flex-wrap items-baseline gap-2 text-sm">
        {s.built === "not-there" ? "Planned, and not built." : "Built, and planned otherwise."}
        <button
          class="button"
          title="With all that stands in it, as planned"
          onclick={() => void write.there({ objects: [s.object.id] }, true, `${s.title} is there already`)}
          >It is there already</button
        >
      </p>
    {/if}
    {#if !s.status.up}<StatusLine status={s.status} />{/if}
    {#each s.findings as f (f.key)}
      <div class="border-l-4 {f.severity === 'settled' ? 'border-good' : 'border-clash'} pl-3">
        <p>{f.sentence}</p>
        <div class="mt-1 flex flex-wrap gap-1.5"><Fixes {design} finding={f} /></div>
      </div>
    {/each}
    <dl class="grid grid-cols-[max-content_1fr] gap-x-4 gap-y-1 text-sm">
      {#each [{ keys: ["name"], label: "name", text: s.object.name, to: undefined, address: false }, ...lines(s.object.body, [], "")] as l (l.keys.join("."))}
        {@const place = l.keys.join(".")}
        <dt class="text-soft">{l.label}</dt>
        <dd class="flex min-w-0 items-start gap-1">
          {#if editing?.keys === place}
            <input
              class="field {l.address ? 'font-mono' : ''}"
              aria-label={l.label}
              bind:value={editing.text}
              {@attach focus}
              onkeydown={(e) => {
                if (e.key === "Enter") void save(l.keys);
                if (e.key === "Escape") editing = undefined;
                e.stopPropagation();
              }}
            />
          {:else}
            {#if l.to}
              <button class="text-link text-left underline" onclick={() => select(l.to ?? "")}
                >{l.text}</button
              >
            {:else}
              {#if l.address}<Address value={l.text} />{:else}<span class="min-w-0 break-words">{l.text}</span
                >{/if}
              <button
                class="text-soft hover:text-ink ml-auto"
                aria-label="Change {l.label}"
                onclick={() => (editing = { keys: place, text: l.text })}><Pencil size={14} /></button
              >
            {/if}
          {/if}
        </dd>
      {/each}
    </dl>
    <p class="flex flex-wrap gap-1.5">
      <button class="button" onclick={() => (making = { object: s.object.id })}>All values</button>
      {#each parts as part (part.kind)}
        <button
          class="button"
          title={part.doc}
          onclick={() => (making = { kind: part.kind, parent: s.object.id })}
          >Add {kindWord(part.kind)}</button
        >
      {/each}
    </p>
    {#if s.inside.length}
      <section>
        <h3 class="mb-1">Inside</h3>
        {#each s.inside as o (o.id)}
          <button class="row" onclick={() => select(o.id)}
            >{o.name}<span class="text-soft ml-2 text-sm">{kindWord(o.kind)}</span></button
          >
        {/each}
      </section>
    {/if}
    {#if s.links.length}
      <section>
        <h3 class="mb-1">Links</h3>
        {#each s.links as o (o.id)}<a class="row block" href={placeURL(design, "links", { link: o.id })}
            >{o.name}</a
          >{/each}
      </section>
    {/if}
    {#if s.routes.length}
      <section>
        <h3 class="mb-1 flex items-center">
          Table <a
            class="button ml-auto font-normal"
            href={placeURL(design, "routes", { table: s.object.id })}>Open under Routes</a
          >
        </h3>
        <table class="w-full text-sm">
          <thead class="text-soft text-left"
            ><tr
              ><th class="font-normal">To</th><th class="pl-3 font-normal">Next hop</th><th
                class="pl-3 font-normal">From</th
              ></tr
            ></thead
          >
          <tbody>
            {#each s.routes as r, n (n)}
              <tr class="border-line border-b">
                <td class="py-1"><Address value={r.prefix} /></td>
                <td class="py-1 pl-3">{r.via}</td>
                <td class="text-soft py-1 pl-3"
                  >{r.source}{r.unusable ? `, not usable: ${r.unusable}` : ""}</td
                >
              </tr>
            {/each}
          </tbody>
        </table>
      </section>
    {/if}
  </article>
  <FormDrawer
    {design}
    of={making}
    close={() => (making = undefined)}
    done={(made) => {
      making = undefined;
      select(made);
    }}
  />
  <RemovalDialog
    {design}
    ids={removing}
    what={s.title}
    close={() => (removing = [])}
    done={() => {
      removing = [];
      select("");
    }}
  />
  <CopyDialog
    {design}
    id={copying}
    name={s.object.name}
    close={() => (copying = "")}
    done={(made) => {
      copying = "";
      select(made);
    }}
  />
{:else if sheet.error}
  <p class="p-4" role="alert">
    {sheet.error.message} <button class="button" onclick={() => select("")}>Close</button>
  </p>
{/if}
