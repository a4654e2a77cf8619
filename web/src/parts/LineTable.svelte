<script lang="ts">
  import type { Edit, LinkLine } from "../api/client";
  import { verdictOf } from "../lib/links";

  interface Props {
    lines: LinkLine[];
    ends: [string, string];
    caption: string;
    /** Applies a mend; absent where there is nothing to change yet. */
    mend?: (title: string, edits: Edit[]) => void;
    /** What can be done about the key's line. */
    key?: (take: "theirs" | "ours") => void;
  }
  const { lines, ends, caption, mend, key }: Props = $props();
  const wide = (text: string) => /^[0-9a-f.:/, -]+$|gcm|aes|^IKEv/i.test(text);
</script>

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
      {@const more = l.why || l.mends.length || (l.key === "key" && l.verdict === "differs" && key)}
      <tr class="align-top {more ? '' : 'border-line border-b'}" data-line={l.key} data-verdict={l.verdict}>
        <th class="text-soft py-1.5 pr-3 text-left font-normal">{l.label}</th>
        <td class="py-1.5 pr-3 break-words {wide(l.values[0] ?? '') ? 'font-mono' : ''}">{l.values[0]}</td>
        <td class="py-1.5 pr-3 whitespace-nowrap {v.tone}">
          <span class="inline-block w-4 text-center font-mono font-semibold" aria-hidden="true">{v.sign}</span
          >
          {v.word}
        </td>
        <td class="py-1.5 break-words {wide(l.values[1] ?? '') ? 'font-mono' : ''}">{l.values[1]}</td>
      </tr>
      {#if more}
        <tr class="border-line border-b">
          <td></td>
          <td colspan="3" class="pb-1.5">
            {#if l.why}<p class="text-soft">{l.why}</p>{/if}
            {#if mend && l.mends.length}
              <p class="mt-1 flex flex-wrap gap-1.5">
                {#each l.mends as m (m.title)}
                  <button class="button text-left whitespace-normal" onclick={() => mend(m.title, m.edits)}
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
