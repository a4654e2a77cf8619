<script lang="ts">
  import { useSessions, useTables } from "../api/queries";
  import { kindWord } from "../lib/form";
  import { tableKey } from "../lib/routes";
  import { urlState } from "../lib/url.svelte";
  import Choice from "../parts/Choice.svelte";
  import Known from "../parts/Known.svelte";
  import LimitsView from "../parts/LimitsView.svelte";
  import SessionPair from "../parts/SessionPair.svelte";
  import SpreadView from "../parts/SpreadView.svelte";
  import TableView from "../parts/TableView.svelte";
  import WhatIf from "../parts/WhatIf.svelte";
  import { goTo, route } from "../router";

  const design = $derived(route.params.design ?? "");
  const as = urlState("as");
  const table = urlState("table");
  const prefix = urlState("prefix");
  const session = urlState("session");
  const filter = urlState("find");
  const modes = [
    { key: "", word: "One table" },
    { key: "prefix", word: "One prefix" },
    { key: "session", word: "A session" },
    { key: "whatif", word: "Before and after" },
    { key: "limits", word: "Limits" },
  ];
  const tables = useTables(() => design);
  const sessions = useSessions(() => design);
  const wanted = $derived(filter.value.trim().toLowerCase());
  const listed = $derived(
    (tables.data ?? []).filter((t) =>
      `${t.title} ${t.party_title} ${kindWord(t.kind)}`.toLowerCase().includes(wanted),
    ),
  );
  const told = $derived(
    (sessions.data ?? []).filter((s) => `${s.name} ${s.ends.join(" ")}`.toLowerCase().includes(wanted)),
  );
  /** Where something can not be used, or else where most is known: there is something to see. */
  const telling = $derived(listed.toSorted((a, b) => b.idle - a.idle || b.entries - a.entries)[0]);
  const chosen = $derived(table.value || (telling ? tableKey(telling.at, telling.segment) : ""));
  const spoken = $derived(session.value || told[0]?.id || "");
  let most = $state(120);
</script>

<div class="flex h-full flex-col">
  <div class="border-line flex items-center gap-1.5 border-b px-3 py-1.5">
    <Choice
      label="Shown"
      options={modes}
      value={as.value}
      choose={(key) => goTo(design, "routes", key ? { as: key } : {})}
    />
  </div>
  <div class="min-h-0 flex-1">
    {#if as.value === "prefix"}
      <SpreadView {design} prefix={prefix.value} choose={(p) => (prefix.value = p)} />
    {:else if as.value === "whatif"}
      <WhatIf {design} />
    {:else if as.value === "limits"}
      <LimitsView {design} />
    {:else}
      <div class="grid h-full grid-cols-[16rem_minmax(0,1fr)]">
        <aside
          class="border-line flex min-h-0 flex-col border-r"
          aria-label={as.value ? "Sessions" : "Tables"}
        >
          <input
            class="field border-line m-2 w-auto"
            placeholder={as.value ? "Filter by name or end" : "Filter by name, party or kind"}
            aria-label="Filter"
            value={filter.value}
            oninput={(e) => filter.replace(e.currentTarget.value)}
          />
          <div class="flex-1 overflow-y-auto">
            {#if as.value === "session"}
              <Known of={sessions} what="The sessions" />
              {#each told.slice(0, most) as s (s.id)}
                <button class="row" aria-current={s.id === spoken} onclick={() => (session.value = s.id)}>
                  <span class="block truncate" title={s.name}>{s.name}</span>
                  <span class="flex justify-between gap-2 text-sm"
                    ><span class="text-soft truncate">{s.ends[0]}</span>
                    <span class="whitespace-nowrap {s.status.up ? 'text-good' : 'text-clash'}"
                      ><span class="font-mono font-semibold" aria-hidden="true"
                        >{s.status.up ? "=" : "×"}</span
                      >
                      {s.status.up ? "established" : "down"}</span
                    ></span
                  >
                </button>
              {:else}
                {#if sessions.data}<p class="text-soft px-3">
                    {wanted ? "No session is called that." : "No link or circuit has a BGP session yet."}
                  </p>{/if}
              {/each}
              {#if told.length > most}<button class="button m-3" onclick={() => (most += 300)}
                  >{told.length - most} more</button
                >{/if}
            {:else}
              <Known of={tables} what="The tables" />
              {#each listed.slice(0, most) as t (t.at + t.segment)}
                <button
                  class="row"
                  aria-current={tableKey(t.at, t.segment) === chosen}
                  onclick={() =>
                    goTo(design, "routes", {
                      table: tableKey(t.at, t.segment),
                      ...(filter.value ? { find: filter.value } : {}),
                    })}
                >
                  <span class="block truncate" title={t.title}>{t.title}</span>
                  <span class="text-soft flex justify-between gap-2 text-sm"
                    ><span>{t.segment ? "routing instance" : kindWord(t.kind)}</span>
                    <span class="whitespace-nowrap"
                      >{t.entries}{#if t.idle}<span class="text-warn">, {t.idle} not used</span>{/if}</span
                    ></span
                  >
                </button>
              {:else}
                {#if tables.data}<p class="text-soft px-3">
                    {wanted
                      ? "No table is called that."
                      : "Nothing here has a table yet: add a site or a cloud network under Estate."}
                  </p>{/if}
              {/each}
              {#if listed.length > most}<button class="button m-3" onclick={() => (most += 300)}
                  >{listed.length - most} more</button
                >{/if}
            {/if}
          </div>
        </aside>
        <div class="min-h-0 overflow-y-auto">
          {#if as.value === "session"}
            {#if spoken}<SessionPair {design} id={spoken} />{/if}
          {:else if chosen}
            <TableView {design} table={chosen} />
          {/if}
        </div>
      </div>
    {/if}
  </div>
</div>
