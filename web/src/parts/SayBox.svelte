<script lang="ts">
  import { CornerDownLeft } from "@lucide/svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { tick } from "svelte";
  import { complain, hear, useHeard, writer } from "../api/queries";
  import type { Heard } from "../api/client";
  import { doable, lineAt, marked, taken } from "../lib/say";
  import { goTo } from "../router";

  interface Props {
    design: string;
    /** The object that the word "it" means. */
    it: string;
    /** There is nothing yet: examples are shown. */
    empty?: boolean;
  }
  const { design, it, empty = false }: Props = $props();
  const write = writer(useQueryClient(), () => design);

  let text = $state("");
  let cursor = $state(0);
  let asked = $state({ text: "", line: "" });
  let area = $state<HTMLTextAreaElement>();
  let inside = $state(false);
  /** Which of the offers Tab would take. */
  let at = $state(0);

  $effect(() => {
    const now = { text, line: lineAt(text, cursor).line };
    const timer = setTimeout(() => {
      asked = now;
      at = 0;
    }, 90);
    return () => clearTimeout(timer);
  });
  const heard = useHeard(
    () => design,
    () => ({ ...asked, it }),
    () => inside || asked.text !== "",
  );
  const h = $derived(asked.text.trim() ? heard.data : undefined);
  const offers = $derived((heard.data?.offers ?? []).slice(0, 8));
  const lines = $derived(h?.lines.filter((l) => l.text.trim()) ?? []);
  const several = $derived(text.includes("\n"));

  const examples = [
    "site Fern Lodge with lan offices /24, gateway 203.0.113.80",
    "network seed store in Tarn, subnet racks, host logger answers tcp/6514",
    "join Fern Lodge and seed store by vpn",
    "Fern Lodge offices must reach logger",
  ];

  async function take(n: number): Promise<void> {
    const offer = offers[n];
    if (!offer) return;
    const now = taken(text, cursor, offer);
    text = now.text;
    await tick();
    area?.focus();
    area?.setSelectionRange(now.cursor, now.cursor);
    cursor = now.cursor;
  }
  /** Does what is said now; what is typed meanwhile stays, and is for the next time. */
  let doing = $state("");
  async function apply(): Promise<void> {
    const said = text;
    if (!said.trim() || doing) return;
    doing = said;
    try {
      const saying = { text: said, line: lineAt(said, cursor).line, it };
      const now = await hear(design, saying);
      if (!doable(now)) return;
      if (now.edits.length && !(await write.say(saying, now))) return;
      const meanwhile = text !== said;
      if (text.startsWith(said)) text = text.slice(said.length).replace(/^\n/, "");
      if (!text) asked = { text: "", line: "" };
      if (meanwhile) return;
      lead(now);
    } catch (error) {
      complain(error);
    } finally {
      doing = "";
    }
  }
  function lead(now: Heard): void {
    if (now.leads) {
      const { a, b } = now.leads;
      goTo(design, "plan", { party: [a, ...b].join(",") });
    }
  }
  function onkeydown(e: KeyboardEvent): void {
    e.stopPropagation();
    if (e.key === "Tab" && !e.shiftKey && offers.length && text) {
      e.preventDefault();
      void take(at);
    } else if ((e.key === "ArrowDown" || e.key === "ArrowUp") && offers.length && !several) {
      e.preventDefault();
      at = (at + (e.key === "ArrowDown" ? 1 : offers.length - 1)) % offers.length;
    } else if (e.key === "Enter" && !e.shiftKey) {
      e.preventDefault();
      void apply();
    } else if (e.key === "Escape") {
      text = "";
      area?.blur();
    } else if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
      e.preventDefault();
      area?.blur();
    }
  }
  const place = () => (cursor = area?.selectionStart ?? text.length);
</script>

<section class="border-line bg-sheet relative border-b" aria-label="Say it">
  <div class="flex items-start gap-2 px-3 py-1.5">
    <label for="say" class="label pt-1.5">Say</label>
    <textarea
      id="say"
      bind:this={area}
      bind:value={text}
      rows={several ? Math.min(8, text.split("\n").length) : 1}
      class="field resize-none font-mono text-sm"
      spellcheck="false"
      autocomplete="off"
      placeholder="site Fern Lodge with lan /24  ·  join A and B by vpn  ·  A must reach B on tcp/443"
      aria-describedby="said"
      {onkeydown}
      oninput={place}
      onkeyup={place}
      onclick={place}
      onfocus={() => (inside = true)}
      onblur={() => setTimeout(() => (inside = false), 150)}></textarea>
    <button class="button" disabled={!doable(h)} onclick={apply} title="Apply what was understood (Enter)"
      ><CornerDownLeft size={16} />{h?.leads && !h.edits.length ? "Compare" : "Do it"}</button
    >
  </div>
  <div
    id="said"
    role="status"
    class="{(lines.length || (inside && offers.length)) && text
      ? 'border-ink bg-sheet absolute inset-x-0 top-full z-[5] max-h-[60vh] overflow-y-auto border-b-2 px-4 py-2 shadow-md'
      : 'contents'} text-sm"
  >
    {#if text}
      {#each lines as l, n (n)}
        {#each l.does as d, k (k)}
          <p>
            <span class="font-mono font-semibold" aria-hidden="true">{d.new ? "+" : "~"}</span>
            {d.text}
          </p>
        {/each}
        {#if l.filled.length}
          <ul class="text-soft ml-4">
            {#each l.filled.slice(0, 12) as f, k (k)}
              <li>{f.what} <span class="text-ink font-mono">{f.value}</span>: {f.why}</li>
            {/each}
          </ul>
        {/if}
        {#each l.notes as note, k (k)}<p class="text-warn ml-4">{note}</p>{/each}
        {#each l.problems as p, k (k)}
          {@const [before, here, after] = marked(l, k)}
          <p class="mt-1 font-mono">
            {before}<span class="text-clash decoration-clash underline decoration-wavy">{here}</span>{after}
          </p>
          <p><span class="text-clash font-semibold">{p.why}</span>{p.want ? `; ${p.want}` : ""}</p>
        {/each}
      {/each}
      {#if inside && offers.length}
        <ul class="mt-1 flex flex-wrap gap-1.5" aria-label="What may come next">
          {#each offers as o, n (o.text + o.from)}
            <li>
              <button
                class="button px-1.5 py-0 font-mono text-xs {n === at ? 'bg-mark' : ''}"
                title={o.hint}
                onclick={() => take(n)}>{o.text}{n === at ? " ⇥" : ""}</button
              >
            </li>
          {/each}
        </ul>
      {/if}
      {#if heard.error}<p class="text-clash">{heard.error.message}</p>{/if}
    {/if}
  </div>
  {#if empty && !text}
    <ul class="flex flex-wrap gap-1.5 px-3 pb-2" aria-label="Examples">
      {#each examples as e (e)}
        <li>
          <button
            class="button px-1.5 py-0 font-mono text-xs"
            onclick={() => {
              text = text ? `${text}\n${e}` : e;
              area?.focus();
            }}>{e}</button
          >
        </li>
      {/each}
    </ul>
  {/if}
</section>
