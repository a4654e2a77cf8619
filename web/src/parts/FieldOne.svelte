<script lang="ts">
  import type { FieldShape } from "../api/client";
  import { find } from "../api/queries";
  import { keyWord, kindWord, type Values } from "../lib/form";
  import FieldRows from "./FieldRows.svelte";
  import Suggest from "./Suggest.svelte";

  interface Props {
    design: string;
    field: FieldShape;
    label: string;
    value: unknown;
    change: (v: unknown) => void;
    suggestions: { value: string; why: string }[];
    /** Titles of what is referred to. */
    names: Record<string, string>;
  }
  const { design, field, label, value, change, suggestions, names }: Props = $props();
  const text = $derived(value === undefined || value === null ? "" : String(value));
  const mono = $derived(["address", "prefix", "inside", "service", "traffic"].includes(field.type));

  async function things(typed: string) {
    const found = await find(design, typed, field.kinds ?? []);
    return found.map((f) => ({ value: f.id, label: f.title, hint: `${kindWord(f.kind)}, ${f.hint}` }));
  }
  const known = (typed: string) =>
    suggestions
      .filter((s) => s.value.toLowerCase().includes(typed.toLowerCase()))
      .map((s) => ({ value: s.value, label: s.value, hint: s.why }));
</script>

{#if field.type === "parts"}
  <fieldset class="border-line flex flex-col gap-2 border-l-2 pl-3" aria-label={label}>
    <FieldRows
      {design}
      fields={field.parts ?? []}
      values={(value ?? {}) as Values}
      change={(v) => change(v)}
      suggestions={{}}
      {names}
    />
  </fieldset>
{:else if field.type === "yes-or-no"}
  <label class="flex items-center gap-2"
    ><input
      type="checkbox"
      aria-label={label}
      checked={value === true}
      onchange={(e) => change(e.currentTarget.checked || undefined)}
    />yes</label
  >
{:else if field.type === "free"}
  <textarea
    class="field"
    rows="2"
    aria-label={label}
    value={text}
    oninput={(e) => change(e.currentTarget.value)}></textarea>
{:else if field.enum}
  <select class="field" aria-label={label} value={text} onchange={(e) => change(e.currentTarget.value)}>
    <option value="">{field.optional ? "as usual" : "choose"}</option>
    {#each field.enum as word (word)}<option value={word}>{keyWord(word)}</option>{/each}
  </select>
{:else if field.type === "reference"}
  <div class="flex gap-1">
    <Suggest
      {label}
      options={things}
      text={text ? (names[text] ?? "not known") : ""}
      placeholder="search a {(field.kinds ?? []).map(kindWord).join(' or ')}"
      choose={(id, title) => {
        names[id] = title;
        change(id);
      }}
    />
    {#if field.optional && text}<button
        type="button"
        class="button"
        aria-label="Take {label} away"
        onclick={() => change(undefined)}>×</button
      >{/if}
  </div>
{:else if suggestions.length}
  <Suggest {label} options={known} {text} free {mono} choose={(v) => change(v)} />
{:else}
  <input
    class="field {mono ? 'font-mono' : ''}"
    aria-label={label}
    value={text}
    inputmode={field.type === "number" ? "numeric" : undefined}
    oninput={(e) => change(e.currentTarget.value)}
  />
{/if}
