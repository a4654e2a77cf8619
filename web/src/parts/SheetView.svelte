<script lang="ts">
  import { X } from "@lucide/svelte";
  import { useObject } from "../api/queries";
  import Address from "./Address.svelte";
  import Mends from "./Mends.svelte";

  interface Props {
    design: string;
    id: string;
    select: (id: string) => void;
  }
  const { design, id, select }: Props = $props();
  const sheet = useObject(
    () => design,
    () => id,
  );
  const s = $derived(sheet.data);
  const kindWords: Record<string, string> = { lan: "LAN" };
  const word = (kind: string) => kindWords[kind] ?? kind;

  /** A body's fields as lines: path and text. References are given by title. */
  function lines(value: unknown, path: string): { path: string; text: string; plain: boolean }[] {
    if (Array.isArray(value))
      return value.flatMap((v, n) => lines(v, value.length > 1 ? `${path} ${n + 1}` : path));
    if (value !== null && typeof value === "object") {
      return Object.entries(value).flatMap(([k, v]) => lines(v, path ? `${path}, ${k}` : k));
    }
    const text = String(value);
    const title = s?.names[text];
    return [
      { path, text: title ?? text, plain: title !== undefined || !/^[0-9a-f]*[.:][0-9a-f.:/]+$/i.test(text) },
    ];
  }
  const singular: Record<string, string> = {
    prefixes: "prefix",
    addresses: "address",
    blocks: "block",
    ends: "end",
  };
  const label = (path: string) =>
    path
      .split(", ")
      .map((part) => part.replace(/^\w+/, (w) => singular[w] ?? w))
      .join(", ");
</script>

{#if s}
  <article class="flex flex-col gap-4 p-4">
    <header class="flex items-start gap-2">
      <div>
        <p class="label">{word(s.object.kind)}</p>
        <h2 class="text-lg">{s.object.name}</h2>
        <p class="text-soft font-mono text-xs">{s.path}</p>
      </div>
      <button class="button ml-auto" aria-label="Close the sheet" onclick={() => select("")}
        ><X size={16} /></button
      >
    </header>
    {#each s.findings as f, n (n)}
      <div class="border-l-4 {f.severity === 'settled' ? 'border-good' : 'border-clash'} pl-3">
        <p>{f.sentence}</p>
        <div class="mt-1 flex flex-wrap gap-1.5"><Mends {design} finding={f} /></div>
      </div>
    {/each}
    <dl class="grid grid-cols-[max-content_1fr] gap-x-4 gap-y-1 text-sm">
      {#each lines(s.object.body, "") as l, n (n)}
        <dt class="text-soft">{label(l.path)}</dt>
        <dd class="min-w-0">
          {#if l.plain}{l.text}{:else}<Address value={l.text} />{/if}
        </dd>
      {/each}
    </dl>
    {#if s.inside.length}
      <section>
        <h3 class="mb-1">Inside</h3>
        {#each s.inside as o (o.id)}
          <button class="row" onclick={() => select(o.id)}
            >{o.name}<span class="text-soft ml-2 text-sm">{word(o.kind)}</span></button
          >
        {/each}
      </section>
    {/if}
    {#if s.links.length}
      <section>
        <h3 class="mb-1">Links</h3>
        {#each s.links as o (o.id)}<button class="row" onclick={() => select(o.id)}>{o.name}</button>{/each}
      </section>
    {/if}
    {#if s.routes.length}
      <section>
        <h3 class="mb-1">Table</h3>
        <table class="w-full text-sm">
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
{:else if sheet.error}
  <p class="p-4" role="alert">
    {sheet.error.message} <button class="button" onclick={() => select("")}>Close</button>
  </p>
{/if}
