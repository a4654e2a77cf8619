<script lang="ts">
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { CrossingCell, Edit } from "../api/client";
  import { useCrossings, writer } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { freshID } from "../lib/stock";
  import Known from "./Known.svelte";
  import Names from "./Names.svelte";
  import RemovalDialog from "./RemovalDialog.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const write = writer(useQueryClient(), () => design);
  const crossings = useCrossings(() => design);
  const segments = $derived(crossings.data?.segments ?? []);
  const cells = $derived(crossings.data?.cells ?? []);
  const cell = (from: string, to: string): CrossingCell | undefined =>
    cells.find((c) => c.from === from && c.to === to);
  const kinds = [
    { key: "", word: "nothing" },
    { key: "open", word: "open" },
    { key: "one-way", word: "one way" },
    { key: "services", word: "services only" },
  ];
  let removing = $state.raw<string[]>([]);
  const name = (id: string) => segments.find((s) => s.id === id)?.title ?? "";

  async function set(from: string, to: string, does: string): Promise<void> {
    const now = () => cell(from, to) ?? cell(to, from);
    const seen = now();
    if (!does) {
      if (seen) removing = [seen.crossing];
      return;
    }
    const title = seen?.name ?? `${name(from)} to ${name(to)}`.slice(0, 78);
    await write.change(`${title}: ${kinds.find((k) => k.key === does)?.word}`, () => {
      const has = now(); // a click before may just have been answered
      const id = has?.crossing ?? freshID();
      const body = { from, to, does, at: has?.set ?? [], note: has?.note ?? "" };
      return [{ op: "put", id, object: { id, kind: "crossing", name: has?.name ?? title, body } } as Edit];
    });
  }
</script>

<h1 class="text-lg">Crossings between segments</h1>
<p class="text-soft mb-3 max-w-[60rem] text-sm">
  Between two segments nothing passes but by a crossing. <strong>Open</strong>: each knows the other's ranges,
  which must be unique. <strong>One way</strong>: the row may start, hidden behind the box's own address, and
  the column can start nothing. <strong>Services only</strong>: no routes; what is published leads across.
  Crossings do not chain.
</p>
<Known of={crossings} what="The crossings" />
{#if segments.length > 1}
  <div class="overflow-x-auto">
    <table class="panel border-collapse text-sm" aria-label="Crossings">
      <thead>
        <tr class="border-line border-b">
          <th class="px-3 py-2 text-left font-normal"><span class="label">from, down; to, across</span></th>
          {#each segments as to (to.id)}<th class="px-3 py-2 text-left">{to.title}</th>{/each}
        </tr>
      </thead>
      <tbody>
        {#each segments as from (from.id)}
          <tr class="border-line border-b align-top">
            <th class="px-3 py-2 text-left">{from.title}</th>
            {#each segments as to (to.id)}
              {@const c = cell(from.id, to.id)}
              {@const back = cell(to.id, from.id)}
              <td class="border-line min-w-[11rem] border-l px-3 py-2" data-cell="{from.title} to {to.title}">
                {#if from.id === to.id}<span class="text-soft">everything</span>
                {:else if !c && back}
                  <span class="text-soft"
                    >{back.does === "one-way" ? "answers only" : "what is published there"}</span
                  >
                {:else}
                  <select
                    class="field w-full"
                    aria-label="{from.title} to {to.title}"
                    value={c?.does ?? ""}
                    onchange={(e) => {
                      void set(from.id, to.id, e.currentTarget.value);
                      e.currentTarget.value = c?.does ?? "";
                    }}
                  >
                    {#each kinds as k (k.key)}<option value={k.key}>{k.word}</option>{/each}
                  </select>
                  {#if c}
                    <p class="text-soft mt-1">
                      {#if c.at.length}at <Names names={c.at} of="boxes" />{:else}no box carries both yet{/if}
                    </p>
                    <p>
                      {#if c.filters.length}
                        {#each c.filters as f, n (f.id)}{n ? ", " : ""}<a
                            href={placeURL(design, "passes", { of: c.crossing })}>{f.title}</a
                          >{/each}
                      {:else}<span class="text-warn">no filter</span>{/if}
                    </p>
                  {/if}
                {/if}
              </td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{:else if crossings.data}
  <p>
    There {segments.length ? "is one segment" : "are no segments"}: everything meets. Add segments in Estate,
    and give LANs and networks theirs.
  </p>
{/if}
<RemovalDialog
  {design}
  ids={removing}
  what="the crossing"
  close={() => (removing = [])}
  done={() => (removing = [])}
/>
