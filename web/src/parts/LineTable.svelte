<script lang="ts">
  import { Pencil } from "@lucide/svelte";
  import type { Edit, LinkLine } from "../api/client";
  import { verdictOf } from "../lib/links";

  interface Props {
    lines: LinkLine[];
    ends: [string, string];
    caption: string;
    /** Applies a fix; absent where there is nothing to change yet. */
    fix?: (title: string, edits: Edit[]) => void;
    /** What can be done about the key's line. */
    key?: (take: "theirs" | "ours") => void;
    /** Sets a parameter at one end; absent where nothing can be written. */
    set?: (end: number, key: string, value: string, label: string) => void;
    /** The line that something led to, by its key. */
    shown?: string;
  }
  const { lines, ends, caption, fix, key, set, shown = "" }: Props = $props();
  let editing = $state<{ key: string; end: number; text: string }>();
  const led = (node: HTMLElement, here: boolean) => here && node.scrollIntoView({ block: "center" });
  const focus = (node: HTMLInputElement) => {
    node.focus();
    node.select();
  };
  function keep(l: LinkLine): void {
    const e = editing;
    editing = undefined;
    if (e && e.text.trim() && e.text !== l.values[e.end]) set?.(e.end, l.key, e.text.trim(), l.label);
  }
  const wide = (text: string) => /^[0-9a-f.:/, -]+$|gcm|aes|^IKEv/i.test(text);
</script>

{#snippet cell(l: LinkLine, end: number)}
  <td class="group py-1.5 pr-3 break-words {wide(l.values[end] ?? '') ? 'font-mono' : ''}">
    {#if editing?.key === l.key && editing.end === end}
      <input
        class="field font-mono"
        aria-label="{l.label} at {ends[end]}"
        bind:value={editing.text}
        {@attach focus}
        onblur={() => (editing = undefined)}
        onkeydown={(e) => {
          if (e.key === "Enter") keep(l);
          if (e.key === "Escape") editing = undefined;
          e.stopPropagation();
        }}
      />
    {:else}
      {l.values[end]}
      {#if set && l.cells[end]}
        <button
          class="text-soft hover:text-ink opacity-0 group-hover:opacity-100 focus-visible:opacity-100"
          aria-label="Change {l.label} at {ends[end]}"
          onclick={() => (editing = { key: l.key, end, text: l.values[end] ?? "" })}
          ><Pencil size={13} /></button
        >
      {/if}
    {/if}
  </td>
{/snippet}

<table class="w-full table-fixed border-collapse text-sm">
  <caption class="sr-only">{caption}</caption>
  <colgroup><col class="w-[13rem]" /><col /><col class="w-[8.5rem]" /><col /></colgroup>
  <thead>
    <tr class="border-ink border-b text-left">
      <th class="py-1 pr-3 font-normal"><span class="label">{caption}</span></th>
      <th class="py-1 pr-3">{ends[0]}</th>
      <th class="py-1 pr-3 font-normal"><span class="label">verdict</span></th>
      <th class="py-1">{ends[1]}</th>
    </tr>
  </thead>
  <tbody>
    {#each lines as l (l.key)}
      {@const v = verdictOf(l.verdict)}
      {@const more = l.why || l.fixes.length || (l.key === "key" && l.verdict === "differs" && key)}
      <tr
        class="align-top {more ? '' : 'border-line border-b'} {shown === l.key ? 'bg-mark' : ''}"
        data-line={l.key}
        data-verdict={l.verdict}
        aria-current={shown === l.key ? "true" : undefined}
        {@attach (node) => void led(node, shown === l.key)}
      >
        <th class="text-soft py-1.5 pr-3 text-left font-normal">{l.label}</th>
        {@render cell(l, 0)}
        <td class="py-1.5 pr-3 whitespace-nowrap {v.tone}">
          <span class="inline-block w-4 text-center font-mono font-semibold" aria-hidden="true">{v.sign}</span
          >
          {v.word}
        </td>
        {@render cell(l, 1)}
      </tr>
      {#if more}
        <tr class="border-line border-b">
          <td></td>
          <td colspan="3" class="pb-1.5">
            {#if l.why}<p class="text-soft">{l.why}</p>{/if}
            {#if fix && l.fixes.length}
              <p class="mt-1 flex flex-wrap gap-1.5">
                {#each l.fixes as m (m.title)}
                  <button class="button text-left whitespace-normal" onclick={() => fix(m.title, m.edits)}
                    >{m.title}</button
                  >
                {/each}
              </p>
            {/if}
            {#if l.key === "key" && l.verdict === "differs" && key}
              <p class="mt-1 flex flex-wrap gap-1.5">
                <button class="button" onclick={() => key("theirs")}>Use the key they sent</button>
                <button class="button" onclick={() => key("ours")}
                  >Keep ours; they will be given it in the handover</button
                >
              </p>
            {/if}
          </td>
        </tr>
      {/if}
    {/each}
  </tbody>
</table>
