<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import { ClipboardPaste, Plus, Wand } from "@lucide/svelte";
  import { usePasses, writer, type FormQuestion } from "../api/queries";
  import { side, sideWord } from "../lib/side";
  import { placeURL } from "../lib/places";
  import Address from "./Address.svelte";
  import FilterTable from "./FilterTable.svelte";
  import FormDrawer from "./FormDrawer.svelte";
  import Known from "./Known.svelte";
  import PasteRules from "./PasteRules.svelte";
  import RemovalDialog from "./RemovalDialog.svelte";
  import WorkedDialog from "./WorkedDialog.svelte";

  interface Props {
    design: string;
    of: string;
  }
  const { design, of }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  const passes = usePasses(
    () => design,
    () => of,
  );
  const view = $derived(passes.data?.of === of ? passes.data : undefined);
  const names = $derived(new Map(view?.names.map((n) => [n.id, n.title]) ?? []));
  const filters = $derived(view?.filters ?? []);
  const sides = $derived(filters.flatMap((f) => f.sides));
  const missing = $derived(sides.reduce((n, s) => n + s.missing.length, 0));
  const unneeded = $derived(sides.flatMap((s) => s.rules).filter((r) => r.idle).length);

  let making = $state.raw<FormQuestion>();
  let working = $state.raw<string[]>();
  let pasting = $state("");
  let removing = $state.raw<string[]>([]);
  const plural = (n: number, word: string) => `${n} ${word}${n === 1 ? "" : "s"}`;
</script>

<Known of={passes} what="What may pass" />
{#if view}
  <div class="mb-3 flex flex-wrap items-center gap-1.5">
    <h1 class="text-lg">{view.title}</h1>
    {#if filters.length}
      <p class={missing ? "text-clash" : "text-soft"} role="status">
        {missing
          ? `${plural(missing, "thing")} that intents need ${missing === 1 ? "is" : "are"} refused`
          : "everything that intents need passes"}
        {sideWord[side()]}{unneeded ? `; ${plural(unneeded, "rule")} not needed` : ""}
      </p>
      <button class="button ml-auto" onclick={() => (working = filters.map((f) => f.filter))}
        ><Wand size={16} />Work out from intents</button
      >
    {/if}
  </div>

  {#each filters as f (f.filter)}
    <section class="panel mb-4" aria-label={f.name}>
      <div class="border-line flex flex-wrap items-center gap-1.5 border-b px-3 py-1.5">
        <h2 class="text-base">{f.name}</h2>
        <p class="text-soft text-sm">
          at {f.at_title}; {f.stateless
            ? "it remembers nothing: answers need rules"
            : "it remembers conversations: answers pass"}{f.any
            ? "; a rule that refuses goes before all that allow"
            : ""}{f.most ? `; takes ${f.most} rules` : ""}
        </p>
        <button class="button ml-auto" onclick={() => (making = { object: f.filter })}>Change</button>
        <button class="button" onclick={() => (pasting = f.filter)}
          ><ClipboardPaste size={16} />Paste rules</button
        >
        <button class="button" onclick={() => (removing = [f.filter])}>Remove</button>
      </div>
      {#each f.sides as side (side.direction)}
        <FilterTable {design} {side} {names} />
      {/each}
    </section>
  {:else}
    <p class="mb-3">No filter stands here: nothing that comes by is refused.</p>
  {/each}

  {#if view.exposed.length}
    <section class="mb-4" aria-label="From the internet">
      <h2 class="mb-1 text-base">From the internet</h2>
      <ul class="panel">
        {#each view.exposed as x, n (n)}
          <li class="border-line border-b px-3 py-1.5 last:border-b-0">
            <Address value={x.address} />
            {#if x.works}
              <span class="text-clash font-semibold">leads to {x.title}</span>{x.service
                ? ` by ${x.service}`
                : ""}: it is open to everybody.
            {:else}
              does not reach {x.title}<span class="text-soft">: {x.why}</span>
            {/if}
          </li>
        {/each}
      </ul>
    </section>
  {/if}

  {#if view.could.length}
    <section aria-label="Where a filter can be">
      <h2 class="mb-1 text-base">A filter can stand at</h2>
      <ul class="flex flex-wrap gap-1.5">
        {#each view.could as c (c.at)}
          <li>
            <button class="button" onclick={() => write.change(`A filter at ${c.title}`, c.edits, true)}
              ><Plus size={16} />{c.title}<span class="text-soft">{c.kind}, {plural(c.rules, "rule")}</span
              ></button
            >
          </li>
        {/each}
      </ul>
      <p class="text-soft mt-1 text-sm">
        It begins with the fewest rules that let pass exactly what intents need, and refuses the rest. Nothing
        that works for an intent stops. <a href={placeURL(design, "proof")}>The intents</a>
      </p>
    </section>
  {/if}
{/if}
<FormDrawer {design} of={making} close={() => (making = undefined)} done={() => (making = undefined)} />
<WorkedDialog {design} filters={working} close={() => (working = undefined)} />
<PasteRules {design} filter={pasting} close={() => (pasting = "")} />
<RemovalDialog
  {design}
  ids={removing}
  what="the filter"
  close={() => (removing = [])}
  done={() => (removing = [])}
/>
