<script lang="ts">
  import type { Plan, PlanOption } from "../api/client";
  import Verdict from "./Verdict.svelte";

  interface Props {
    plan: Plan;
    /** The key of the option that is looked at. */
    shown: string;
    show: (key: string) => void;
    apply: (o: PlanOption) => void;
  }
  const { plan, shown, show, apply }: Props = $props();
  const first = $derived(plan.options[0]);
  const count = (n: number, one: string, many: string) => (n === 1 ? `1 ${one}` : `${n} ${many}`);
  const owners = (o: PlanOption) => [...new Set(o.boxes.map((b) => b.owner || b.party))];
  const pools = (o: PlanOption) =>
    o.capacity.length
      ? o.capacity.map((c) => `${c.pool}: ${c.hosts} of ${c.fits} hosts`).join("; ")
      : "no pool";
  const short = (list: string[]) =>
    list.length === 0
      ? "nothing"
      : list.length > 2
        ? `${list[0]} and ${list.length - 1} more`
        : list.join(" and ");

  /** What options are compared by: the words of each row, and whether they differ from the first option's. */
  const rows: { word: string; of: (o: PlanOption) => string }[] = [
    { word: "Intents that hold", of: (o) => `${o.holding} of ${o.total}` },
    { word: "Who can start", of: (o) => o.start },
    { word: "Callers told apart", of: (o) => (o.tells ? "yes" : "no") },
    {
      word: "Addresses spent",
      of: (o) =>
        o.addresses.toLocaleString("en") +
        (o.ranges6 ? ` and ${count(o.ranges6, "range", "ranges")} of IPv6` : ""),
    },
    {
      word: "Entries for one more",
      of: (o) => `host ${o.per_host}, service ${o.per_service}`,
    },
    {
      word: "Touched",
      of: (o) =>
        o.boxes.length
          ? `${count(o.boxes.length, "box or table", "boxes and tables")}, by ${short(owners(o))}`
          : "nothing",
    },
    {
      word: "Joined by",
      of: (o) =>
        o.joints.length ? `${o.way}: ${count(o.joints.length, "joint", "joints")}` : "what is there",
    },
    { word: "More a month", of: (o) => o.month + (o.unpriced ? `, and ${o.unpriced}` : "") },
    {
      word: "Survives",
      of: (o) =>
        o.survives
          ? "any single failure"
          : o.weakest
            ? `not without ${o.weakest}`
            : o.refused
              ? ""
              : "not walked",
    },
    { word: "Pool", of: pools },
    { word: "Stays broken", of: (o) => short(o.stays) },
    { word: "Breaks", of: (o) => short(o.breaks) },
    {
      word: "When the next comes",
      of: (o) => [o.additions ? count(o.additions, "step", "steps") : "", o.next].filter(Boolean).join(": "),
    },
  ];
</script>

{#if first?.first}<p class="text-good px-3 pt-1">
    <span class="font-semibold">{first.title}.</span>
    {first.first}
  </p>{/if}
<div class="overflow-x-auto px-3 py-2">
  <table class="text-sm" aria-label="Options side by side">
    <thead>
      <tr class="align-top">
        <th class="w-36 min-w-36"><span class="sr-only">What is compared</span></th>
        {#each plan.options as o, n (o.key)}
          <th
            scope="col"
            aria-current={o.key === shown}
            class="border-line w-48 min-w-48 border p-0 text-left font-normal {o.key === shown
              ? 'bg-mark border-ink border-2 border-b-0'
              : 'bg-sheet'}"
          >
            <button class="block w-full px-2 py-1.5 text-left" onclick={() => show(o.key)}>
              <span class="line-clamp-3 font-semibold" title={o.title}>{n + 1}. {o.title}</span>
              <Verdict
                good={!o.refused}
                word={o.refused ? (o.remedy === "leave" ? "no answer" : "refused") : "an answer"}
              />
            </button>
            {#if !o.refused}
              <button
                class="button mx-2 mb-1.5 {n === 0 ? 'button-main' : ''}"
                onclick={() => apply(o)}
                aria-label="Apply: {o.title}">Apply</button
              >
            {/if}
          </th>
        {/each}
      </tr>
    </thead>
    <tbody>
      {#each rows as r (r.word)}
        <tr class="align-top">
          <th scope="row" class="text-soft pt-1 pr-2 text-right font-normal">{r.word}</th>
          {#each plan.options as o (o.key)}
            {@const text = r.of(o)}
            {@const differs = first && o !== first && text !== r.of(first)}
            <td
              class="border-line border px-2 py-1 {o.key === shown ? 'border-x-ink border-x-2' : ''}"
              title={text}
              ><div class="line-clamp-3 {differs ? 'font-semibold' : ''}">
                {#if differs}<span class="text-warn" title="differs from the first">≠</span>{/if}
                {text}
              </div></td
            >
          {/each}
        </tr>
      {/each}
    </tbody>
  </table>
</div>
