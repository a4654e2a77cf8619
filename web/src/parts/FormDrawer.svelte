<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { useForm, writer, type FormQuestion } from "../api/queries";
  import type { Edit } from "../api/client";
  import { begun, kindWord, sent, type Values } from "../lib/form";
  import { freshID } from "../lib/stock";
  import Drawer from "./Drawer.svelte";
  import FieldRows from "./FieldRows.svelte";
  import Known from "./Known.svelte";
  import RouteEffect from "./RouteEffect.svelte";

  interface Props {
    design: string;
    /** What is made or changed; undefined: the drawer is closed. */
    of: FormQuestion | undefined;
    close: () => void;
    /** Called with the ID of what was stored. */
    done: (id: string) => void;
    /** Values that a new one begins with. */
    given?: Values;
  }
  const { design, of, close, done, given = {} }: Props = $props();
  const form = useForm(
    () => design,
    () => ({
      ...of,
      titled: Object.values(given)
        .flat()
        .filter((x) => typeof x === "string"),
    }),
    () => of !== undefined,
  );
  const write = writer(useQueryClient(), () => design);
  let name = $state("");
  let values = $state.raw<Values>({});
  let names = $state<Record<string, string>>({});
  let begunFor = "";

  // What is typed stays when the design changes underneath; another question begins anew.
  $effect(() => {
    const key = JSON.stringify(of ?? "");
    const f = form.data;
    if (!of) begunFor = "";
    if (!f || begunFor === key || (of?.object ?? "") !== f.object) return;
    begunFor = key;
    name = f.name;
    values = { ...begun(f), ...given };
    names = { ...f.names };
  });
  const freshly = freshID();
  /** What saving would put there. */
  const edit = $derived.by((): Edit | undefined => {
    const f = form.data;
    if (!f) return undefined;
    const id = f.object || freshly;
    const parent = f.parent || undefined;
    return {
      op: "put",
      id,
      object: { id, kind: f.kind, parent, name: name.trim(), body: sent(f.fields, values) },
    } as Edit;
  });
  let saving = $state(false);
  async function save(e: SubmitEvent): Promise<void> {
    e.preventDefault();
    if (saving) return;
    const f = form.data;
    const id = f?.object || freshID();
    if (!f || !edit?.object) return;
    const what = `${f.object ? "Change" : "Add"} ${kindWord(f.kind)} ${edit.object.name}`;
    saving = true; // nothing is typed into what is on its way
    const saved = await write.change(what, [{ ...edit, id, object: { ...edit.object, id } } as Edit]);
    saving = false;
    if (saved) {
      begunFor = "";
      asking = undefined;
      done(id);
    }
  }
  /** The edit whose routes are shown before and after. */
  let asking = $state.raw<Edit>();
  const title = $derived(
    form.data
      ? `${form.data.object ? "" : "New "}${kindWord(form.data.kind)}${form.data.object ? ` ${form.data.name}` : ""}`
      : "",
  );
</script>

<Drawer {title} open={of !== undefined} {close}>
  <Known of={form} what="The form" />
  {#if form.data && of}
    <form class="flex flex-col gap-3 p-4" onsubmit={save} inert={saving} aria-busy={saving}>
      <p class="text-soft text-sm">{form.data.doc}</p>
      <label class="flex flex-col gap-1"
        ><span class="text-sm font-semibold">name *</span>
        <input class="field" bind:value={name} maxlength="80" required /></label
      >
      <FieldRows
        {design}
        fields={form.data.fields}
        {values}
        change={(v) => (values = v)}
        suggestions={form.data.suggestions}
        {names}
      />
      <div class="border-line bg-sheet sticky bottom-0 flex gap-2 border-t py-2">
        <button class="button button-main">{form.data.object ? "Save" : "Add"}</button>
        <button type="button" class="button" onclick={close}>Never mind</button>
        <button type="button" class="button ml-auto" onclick={() => (asking = edit)}>What it changes</button>
      </div>
      {#if asking}<RouteEffect {design} change={{ edits: [asking] }} open />{/if}
      {#if form.data.saying}
        <p class="text-soft text-sm">Said in one line:</p>
        <pre class="bg-sunk p-2 font-mono text-xs break-all whitespace-pre-wrap">{form.data.saying}</pre>
      {/if}
    </form>
  {/if}
</Drawer>
