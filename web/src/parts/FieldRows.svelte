<script lang="ts">
  import type { FieldShape } from "../api/client";
  import { blank, keyWord, shownFirst, type Values } from "../lib/form";
  import FieldOne from "./FieldOne.svelte";

  interface Props {
    design: string;
    fields: FieldShape[];
    values: Values;
    change: (values: Values) => void;
    suggestions: Record<string, { value: string; why: string }[]>;
    names: Record<string, string>;
  }
  const { design, fields, values, change, suggestions, names }: Props = $props();

  /** Shown because somebody asked for them. */
  let also = $state<string[]>([]);
  const first = $derived(fields.filter((f) => shownFirst(f, values, also)));
  const rest = $derived(fields.filter((f) => !shownFirst(f, values, also)));
  const set = (key: string, v: unknown) => change({ ...values, [key]: v });
  const list = (key: string): unknown[] => (values[key] as unknown[] | undefined) ?? [];
  /** Nothing is taken away that must be there. */
  const loose = (f: FieldShape) => list(f.key).length > (f.min ?? 0);
</script>

{#each first as f (f.key)}
  <div class="flex flex-col gap-1">
    <p class="text-sm font-semibold" title={f.doc}>
      {keyWord(f.key)}{f.optional ? "" : " *"}
      <span class="text-soft ml-1 font-normal">{f.doc}</span>
    </p>
    {#if !f.many}
      <FieldOne
        {design}
        field={f}
        label={keyWord(f.key)}
        value={values[f.key]}
        change={(v) => set(f.key, v)}
        suggestions={suggestions[f.key] ?? []}
        {names}
      />
    {:else if f.enum}
      <div class="flex flex-wrap gap-3">
        {#each f.enum as word (word)}
          <label class="flex items-center gap-1"
            ><input
              type="checkbox"
              checked={list(f.key).includes(word)}
              onchange={(e) =>
                set(
                  f.key,
                  e.currentTarget.checked ? [...list(f.key), word] : list(f.key).filter((x) => x !== word),
                )}
            />{keyWord(word)}</label
          >
        {/each}
      </div>
    {:else}
      {#each list(f.key) as v, n (n)}
        <div class="flex items-start gap-1">
          <div class="min-w-0 flex-1">
            <FieldOne
              {design}
              field={f}
              label="{keyWord(f.key)} {n + 1}"
              value={v}
              change={(now) =>
                set(
                  f.key,
                  list(f.key).map((x, k) => (k === n ? now : x)),
                )}
              suggestions={suggestions[f.key] ?? []}
              {names}
            />
          </div>
          {#if loose(f)}<button
              type="button"
              class="button"
              aria-label="Take {keyWord(f.key)} {n + 1} away"
              onclick={() =>
                set(
                  f.key,
                  list(f.key).filter((_, k) => k !== n),
                )}>×</button
            >{/if}
        </div>
      {/each}
      {#if !f.max || list(f.key).length < f.max}
        <button
          type="button"
          class="button self-start"
          onclick={() => set(f.key, [...list(f.key), blank({ ...f, many: false })])}
          >Add to {keyWord(f.key)}</button
        >
      {/if}
    {/if}
  </div>
{/each}
{#if rest.length}
  <p class="flex flex-wrap items-center gap-1.5 text-sm">
    <span class="text-soft">Give also</span>
    {#each rest as f (f.key)}
      <button type="button" class="button px-1.5 py-0" title={f.doc} onclick={() => (also = [...also, f.key])}
        >{keyWord(f.key)}</button
      >
    {/each}
  </p>
{/if}
