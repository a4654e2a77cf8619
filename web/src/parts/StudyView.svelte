<script lang="ts">
  import type { StudyPoint } from "../api/client";
  import { useProfiles, useStudy } from "../api/queries";
  import Chart from "./Chart.svelte";
  import Choice from "./Choice.svelte";
  import { urlState } from "../lib/url.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const profiles = useProfiles(() => design);
  const cloud = urlState("cloud");
  const tables = urlState("tables");
  const gb = urlState("gb");
  const far = urlState("far");
  const measure = urlState("measure");

  const name = $derived(cloud.value || profiles.data?.toSorted((x, y) => y.used - x.used)[0]?.name || "");
  const whole = (text: string, usual: number, least: number, most: number) =>
    Math.min(most, Math.max(least, Math.round(Number(text || usual)) || least));
  const question = $derived({
    cloud: name,
    tables: whole(tables.value, 2, 1, 200),
    gb: whole(gb.value, 1000, 0, 10_000_000),
    regional: far.value === "1",
  });
  const study = useStudy(
    () => design,
    () => question,
  );
  const s = $derived(study.data);

  type Key = keyof StudyPoint;
  const measures: { key: Key; word: string }[] = [
    { key: "steps", word: "Steps for the next network" },
    { key: "objects", word: "Things to make" },
    { key: "entries", word: "Table entries" },
    { key: "monthly", word: "Cost a month" },
  ];
  const shown = $derived(measures.find((m) => m.key === measure.value) ?? measures[0]);
  const value = (p: StudyPoint | undefined): number | undefined =>
    p && shown ? Number(p[shown.key]) : undefined;

  const rows = $derived((s?.sizes ?? []).filter((r) => r.n >= 3 && r.n <= 50));
  const series = $derived(
    (s?.shapes ?? []).map((shape, n) => ({
      label: shape,
      values: rows.map((r) => value(r.points[shape]) ?? null),
      dash: [[], [9, 4], [2, 4]][n] ?? [],
    })),
  );
  /** The estate's own size, and the sizes that a table needs to show. */
  const listed = $derived([
    ...(s && s.present.n < 3 && s.present.n > 0 ? [s.present] : []),
    ...(s?.sizes ?? []).filter((r) => r.n <= 10 || r.n % 5 === 0 || r.n === s?.present.n),
  ]);
  const number = (v: number) => v.toLocaleString("en");
</script>

<div class="h-full overflow-auto">
  <div class="border-line flex flex-wrap items-end gap-3 border-b px-4 py-2">
    <label
      ><span class="label">Networks in</span>
      <select class="field" value={name} onchange={(e) => (cloud.value = e.currentTarget.value)}>
        {#each profiles.data ?? [] as p (p.name)}<option value={p.name}>{p.name}</option>{/each}
      </select></label
    >
    <label class="w-36"
      ><span class="label">Route tables in each</span>
      <input
        class="field"
        type="number"
        min="1"
        max="200"
        value={question.tables}
        onchange={(e) => (tables.value = e.currentTarget.value)}
      /></label
    >
    <label class="w-44"
      ><span class="label">GB a month that each sends</span>
      <input
        class="field"
        type="number"
        min="0"
        value={question.gb}
        onchange={(e) => (gb.value = e.currentTarget.value)}
      /></label
    >
    <label class="flex items-center gap-1.5 pb-1"
      ><input
        type="checkbox"
        checked={question.regional}
        onchange={(e) => (far.value = e.currentTarget.checked ? "1" : "")}
      />in different regions</label
    >
  </div>
  {#if study.error}<p role="alert" class="text-clash p-4">{study.error.message}</p>{/if}
  {#if s}
    <div class="grid gap-5 p-4 xl:grid-cols-[1fr_1fr]">
      <section aria-label="In words">
        <h1 class="text-lg">When does a hub pay?</h1>
        <ul class="mt-1 flex flex-col gap-1">
          {#each s.sentences as sentence, n (n)}<li class="border-rule border-l-2 pl-2">
              {sentence}.
            </li>{/each}
          {#each s.out as why, n (n)}<li class="text-soft pl-2.5">{why}.</li>{/each}
        </ul>
        <p class="mt-2">
          The estate has <strong>{s.networks}</strong>
          {s.networks === 1 ? "network" : "networks"} in {s.cloud} now.
        </p>
      </section>
      <figure aria-label="Chart">
        <Choice
          label="Measured by"
          options={measures}
          value={shown?.key ?? "steps"}
          choose={(key) => (measure.value = key)}
        />
        <Chart
          title="{shown?.word ?? ''} for 3 to 50 networks"
          across="networks"
          x={rows.map((r) => r.n)}
          {series}
          mark={s.present.n >= 3 && s.present.n <= 50 ? { at: s.present.n, word: "now" } : undefined}
        />
      </figure>
      <section class="xl:col-span-2" aria-label="Table">
        <table class="w-full max-w-6xl text-right text-sm">
          <thead>
            <tr
              ><th class="text-left"><span class="label">networks</span></th>
              {#each s.shapes as shape (shape)}<th colspan="4" class="border-line border-l px-2 text-left"
                  >{shape}</th
                >{/each}</tr
            >
            <tr class="border-ink text-soft border-b"
              ><th></th>
              {#each s.shapes as shape (shape)}
                <th class="border-line border-l px-2 font-normal">objects</th><th class="px-2 font-normal"
                  >entries</th
                ><th class="px-2 font-normal">next</th><th class="px-2 font-normal">a month</th>
              {/each}</tr
            >
          </thead>
          <tbody class="font-mono">
            {#each listed as r (r.n)}
              <tr class="border-line border-b {r.n === s.present.n ? 'bg-mark' : ''}">
                <th class="py-0.5 text-left font-normal">{r.n}{r.n === s.present.n ? " now" : ""}</th>
                {#each s.shapes as shape (shape)}
                  {@const p = r.points[shape]}
                  {#if p}
                    <td class="border-line border-l px-2">{number(p.objects)}</td><td class="px-2"
                      >{number(p.entries)}</td
                    ><td class="px-2">{number(p.steps)}</td><td class="px-2"
                      >{Number(p.monthly).toLocaleString("en", {
                        minimumFractionDigits: 2,
                        maximumFractionDigits: 2,
                      })}</td
                    >
                  {:else}<td colspan="4" class="border-line text-soft border-l px-2 text-left font-sans"
                      >beyond the cloud's limit</td
                    >{/if}
                {/each}
              </tr>
            {/each}
          </tbody>
        </table>
      </section>
    </div>
  {/if}
</div>
