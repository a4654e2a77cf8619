<script lang="ts">
  import { useLinks } from "../api/queries";
  import { kindWord } from "../lib/form";
  import { rowWord, stateWord } from "../lib/links";
  import { urlState } from "../lib/url.svelte";
  import Choice from "../parts/Choice.svelte";
  import Known from "../parts/Known.svelte";
  import LinkView from "../parts/LinkView.svelte";
  import ProfilesView from "../parts/ProfilesView.svelte";
  import StudyView from "../parts/StudyView.svelte";
  import { goTo, route } from "../router";

  const design = $derived(route.params.design ?? "");
  const links = useLinks(() => design);
  const chosen = urlState("link");
  const as = urlState("as");
  const filter = urlState("find");
  const modes = [
    { key: "", word: "Sheets" },
    { key: "study", word: "Shape study" },
    { key: "profiles", word: "Profiles" },
  ];
  /** Those that need something done come first. */
  const order = (x: { differing: number; asks?: boolean; state: string }) =>
    x.differing
      ? 0
      : x.asks
        ? 1
        : x.state === "ready"
          ? 3
          : x.state === "refused" || x.state === "gone"
            ? 4
            : 2;
  const all = $derived((links.data ?? []).toSorted((x, y) => order(x) - order(y)));
  const wanted = $derived(filter.value.trim().toLowerCase());
  const listed = $derived(
    all.filter((x) =>
      `${x.name} ${x.facts.end_a} ${x.facts.end_b} ${kindWord(x.kind)} ${stateWord(x.state)}`
        .toLowerCase()
        .includes(wanted),
    ),
  );
  const id = $derived(chosen.value || listed[0]?.id || "");
  // What is shown stays shown when its place in the list changes.
  $effect(() => {
    if (!as.value && !chosen.value && id) chosen.replace(id);
  });
  let most = $state(100);
</script>

<div class="flex h-full flex-col">
  <div class="border-line flex items-center gap-1.5 border-b px-3 py-1.5">
    <Choice
      label="Shown"
      options={modes}
      value={as.value}
      choose={(key) => goTo(design, "links", key ? { as: key } : {})}
    />
  </div>
  <div class="min-h-0 flex-1">
    {#if as.value === "study"}
      <StudyView {design} />
    {:else if as.value === "profiles"}
      <ProfilesView {design} />
    {:else if !links.data}
      <Known of={links} what="The links" />
    {:else if all.length === 0}
      <p class="p-8">
        Nothing is joined yet.
        <button class="button button-main" onclick={() => goTo(design, "plan")}>Plan who must talk</button>
      </p>
    {:else}
      <div class="grid h-full grid-cols-[17rem_minmax(0,1fr)]">
        <aside class="border-line flex flex-col overflow-hidden border-r" aria-label="Links">
          <input
            class="field border-line m-2 w-auto"
            placeholder="Filter by name, end, kind or state"
            aria-label="Filter"
            value={filter.value}
            oninput={(e) => filter.replace(e.currentTarget.value)}
          />
          <div class="flex-1 overflow-y-auto">
            {#each listed.slice(0, most) as x (x.id)}
              {@const mark = rowWord(x)}
              <button class="row" aria-current={x.id === id} onclick={() => (chosen.value = x.id)}>
                <span class="block truncate" title={x.name}>{x.name}</span>
                <span class="flex flex-wrap justify-between gap-x-2 text-sm">
                  <span class="text-soft"
                    >{x.facts.shape}{x.state === "ready" ? "" : `, ${stateWord(x.state)}`}</span
                  >
                  <span class="whitespace-nowrap {mark.tone}"
                    ><span class="font-mono font-semibold" aria-hidden="true">{mark.sign}</span>
                    {mark.word}</span
                  >
                </span>
              </button>
            {:else}
              <p class="text-soft px-3">No link is called that.</p>
            {/each}
            {#if listed.length > most}
              <button class="button m-3" onclick={() => (most += 200)}>{listed.length - most} more</button>
            {/if}
          </div>
        </aside>
        <div class="overflow-y-auto">
          {#if id}<LinkView {design} {id} />{/if}
        </div>
      </div>
    {/if}
  </div>
</div>
