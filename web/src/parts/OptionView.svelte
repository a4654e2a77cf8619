<script lang="ts">
  import type { Edit, Plan, PlanOption } from "../api/client";
  import { useTriedRunbook } from "../api/queries";
  import { byParty } from "../lib/plan";
  import { placeURL } from "../lib/places";
  import Address from "./Address.svelte";
  import RouteEffect from "./RouteEffect.svelte";
  import Choice from "./Choice.svelte";
  import Known from "./Known.svelte";
  import PlanPicture from "./PlanPicture.svelte";
  import TriedWalk from "./TriedWalk.svelte";
  import Verdict from "./Verdict.svelte";
  import WalkView from "./WalkView.svelte";

  interface Props {
    design: string;
    plan: Plan;
    option: PlanOption;
    apply: (o: PlanOption) => void;
  }
  const { design, plan, option, apply }: Props = $props();
  const stages = [
    "What must be there",
    "Routes, announcements, entries",
    "Selectors, at both ends at once",
    "Translations",
    "Published services",
    "Names",
  ];
  let order = $state<"when" | "who">("when");
  const book = useTriedRunbook(
    () => design,
    () => option.edits as Edit[],
    () => option.edits.length > 0 && !option.refused,
  );
  const steps = $derived(
    order === "who"
      ? byParty(option).map((p) => ({ word: p.party, list: p.steps }))
      : stages
          .map((word, n) => ({ word, list: option.changes.filter((c) => c.stage === n) }))
          .filter((s) => s.list.length),
  );
  let most = $state(40);
  let walked = $state("");
  let pictured = $state(true);
</script>

<section
  class="border-ink grid grid-cols-1 gap-x-6 border-t-2 px-3 py-2 lg:grid-cols-2"
  aria-label="Option"
  data-testid="option"
>
  <div class="min-w-0">
    <h3 class="text-lg">{option.title}</h3>
    {#if option.refused}
      <p class="text-clash font-semibold" role="status">
        {option.remedy === "leave" ? "No answer" : "Refused"}: {option.refused}.
      </p>
    {/if}
    {#if option.why_more.length}
      <h4 class="mt-2 font-semibold">Why one side is not enough</h4>
      <ul class="list-inside list-disc text-sm">
        {#each option.why_more.slice(0, 6) as why, n (n)}<li>{why}</li>{/each}
      </ul>
      {#if option.why_more.length > 6}<p class="text-soft text-sm">
          and so with {option.why_more.length - 6} more
        </p>{/if}
    {/if}
    {#each option.maps.slice(0, 12) as m, n (n)}
      <p>
        <span class="text-soft text-sm">{m.title}</span>
        <Address value={m.real} /> <span aria-label="is seen as">→</span>
        <Address value={m.mapped} />
      </p>
    {/each}
    {#if option.maps.length > 12}<p class="text-soft text-sm">
        and {option.maps.length - 12} more ranges
      </p>{/if}
    <p class="text-soft text-sm">{option.why.length > 400 ? "" : option.why}</p>
    {#each option.capacity as c, n (n)}
      <p class="text-sm">
        Pool <Address value={c.pool} /> at {c.title}: {c.addresses} × 64,512 ports =
        {c.connections.toLocaleString("en")} connections to one far end and protocol; {c.ends}.
      </p>
    {/each}
    <h4 class="mt-2 font-semibold">Intents, walked before and after</h4>
    <table class="w-full text-sm">
      <tbody>
        {#each option.intents.slice(0, 20) as i (i.intent)}
          <tr class="border-line border-b align-top">
            <td class="py-1 pr-2"
              ><a href={placeURL(design, "proof", { intent: i.intent })}>{i.name}</a>
              {#if i.dials}<span class="text-soft">dials</span>
                <span class="font-mono">{i.dials}</span>{/if}
              {#if i.why}<span class="text-soft block">{i.why}</span>{/if}</td
            >
            <td class="py-1 whitespace-nowrap"
              ><Verdict good={i.before} word={i.before ? "holds" : "fails"} /> →
              <Verdict good={i.after} word={i.after ? "holds" : "fails"} />
              <button
                class="button ml-1"
                aria-expanded={walked === i.intent}
                aria-label="Walk: {i.name}"
                onclick={() => (walked = walked === i.intent ? "" : i.intent)}>Walk</button
              ></td
            >
          </tr>
        {/each}
      </tbody>
    </table>
    {#if option.intents.length > 20}<p class="text-soft text-sm">
        and {option.intents.length - 20} more
      </p>{/if}
  </div>
  <div class="min-w-0">
    {#if option.edits.length && !option.refused}
      <h4 class="font-semibold">
        {book.data
          ? `${book.data.steps.length === 1 ? "1 step" : `${book.data.steps.length} steps`}, as its runbook will have them`
          : "Its steps"}
      </h4>
      <Known of={book} what="The order of its work" />
      <ol class="mt-1 text-sm">
        {#each book.data?.steps.slice(0, most) ?? [] as s (s.id)}
          <li class="flex gap-2">
            <span class="text-soft w-32 shrink-0 truncate" title={s.where}>{s.where}</span>
            <span class="min-w-0 wrap-anywhere"
              >{s.does}
              {#each s.down as h (h.intent)}<span class="text-clash block"
                  >× {h.name} is down from then on</span
                >{/each}
            </span>
          </li>
        {/each}
      </ol>
      {#if (book.data?.steps.length ?? 0) > most}<button class="button my-1" onclick={() => (most = 1000)}
          >{(book.data?.steps.length ?? 0) - most} more</button
        >{/if}
      {#each book.data?.gates ?? [] as g (g.object)}<p class="text-sm">{g.text}</p>{/each}
      {#each book.data?.cannot ?? [] as l (l)}<p class="text-warn text-sm">! {l}</p>{/each}
    {/if}
    <div class="flex items-center gap-2">
      <h4 class="font-semibold">
        {option.changes.length}
        {option.changes.length === 1 ? "change" : "changes"}, in this order
      </h4>
      <Choice
        label="In the order of"
        options={[
          { key: "when", word: "When" },
          { key: "who", word: "Who" },
        ]}
        value={order}
        choose={(key) => (order = key)}
      />
      {#if !option.refused && option.changes.length}
        <button class="button ml-auto" onclick={() => apply(option)}>Apply as one</button>
      {/if}
    </div>
    {#each steps as s (s.word)}
      <p class="text-soft mt-1">{s.word}</p>
      <ol class="text-sm">
        {#each s.list.slice(0, most) as c, n (n)}
          <li class="flex gap-2">
            <span class="text-soft w-32 shrink-0 truncate" title={c.where}>{c.where}</span><span
              class="min-w-0 wrap-anywhere">{c.text}</span
            >
          </li>
        {/each}
      </ol>
      {#if s.list.length > most}<button class="button my-1" onclick={() => (most = 1000)}
          >{s.list.length - most} more</button
        >{/if}
    {/each}
    {#if option.edits.length}
      <div class="mt-2">
        {#key option.key}<RouteEffect {design} change={{ edits: option.edits }} />{/key}
      </div>
    {/if}
    {#if plan.least.mapped > 0 && option.remedy === "map" && !option.refused}
      <h4 class="mt-2 font-semibold">The fewest parties</h4>
      <p class="text-sm">
        {plan.least.mapped === 1 ? "1 party is" : `${plan.least.mapped} parties are`} mapped{plan.least.exact
          ? ", and fewer do not serve"
          : `; fewer than ${plan.least.bound} is impossible`}.
        {plan.least.why.slice(0, 3).join("; ")}{plan.least.why.length ? "." : ""}
      </p>
    {/if}
    {#if option.left.length}
      <h4 class="mt-2 font-semibold">Left out, or to be granted</h4>
      <ul class="list-inside list-disc text-sm">
        {#each option.left.slice(0, 8) as x, n (n)}<li>{x}</li>{/each}
      </ul>
      {#if option.left.length > 8}<p class="text-soft text-sm">and {option.left.length - 8} more</p>{/if}
    {/if}
    {#if option.costs.length}
      <details class="mt-2 text-sm">
        <summary>What it adds to the bill: <span class="font-mono">{option.month}</span> a month</summary>
        {#each option.costs as c, n (n)}
          <p class="flex justify-between gap-2">
            <span>{c.text}</span><span class="font-mono">{Number(c.amount).toFixed(2)}</span>
          </p>
        {/each}
        {#if option.unpriced}<p class="text-warn">and {option.unpriced}</p>{/if}
      </details>
    {/if}
    {#if option.suggestions.length}
      <details class="mt-2 text-sm">
        <summary>What is filled in, and why ({option.suggestions.length})</summary>
        <dl class="grid grid-cols-[max-content_minmax(8rem,1fr)_2fr] gap-x-3">
          {#each option.suggestions as x, n (n)}
            <dt class="text-soft border-line border-b py-0.5">{x.what}</dt>
            <dd class="border-line border-b py-0.5 font-mono break-words">{x.value}</dd>
            <dd class="border-line border-b py-0.5">{x.why}</dd>
          {/each}
        </dl>
      </details>
    {/if}
    {#if plan.excluded.length}
      <details class="mt-2 text-sm">
        <summary class="text-soft">Not offered, and why ({plan.excluded.length})</summary>
        <ul class="list-inside list-disc">
          {#each plan.excluded as x, n (n)}<li>{x}</li>{/each}
        </ul>
      </details>
    {/if}
  </div>
  {#if option.seen.length || option.joints.length}
    <div class="mt-2 lg:col-span-2">
      <button class="button" aria-expanded={pictured} onclick={() => (pictured = !pictured)}
        >What is joined and seen as what, in the picture</button
      >
      {#if pictured}<span class="text-soft ml-2 text-sm"
          >Broken line: joined by it. Whole frame: seen as something else, which stands below. Broken frame:
          something is changed there.</span
        >{/if}
      {#if pictured}
        <div class="border-line mt-1 h-96 border"><PlanPicture {design} {option} /></div>
      {/if}
    </div>
  {/if}
  {#if walked}
    <div class="mt-2 flex min-w-0 flex-col gap-2 lg:col-span-2" data-testid="tried">
      <h4 class="font-semibold">
        The walk with this option, not applied: {option.intents.find((i) => i.intent === walked)?.name}
      </h4>
      {#key option.key + walked}<TriedWalk {design} intent={walked} edits={option.edits} />{/key}
    </div>
  {/if}
  {#if option.walk && option.refused && !walked}
    <div class="mt-2 flex min-w-0 flex-col gap-2 lg:col-span-2">
      <h4 class="font-semibold">The walk that fails</h4>
      <WalkView {design} proof={option.walk} tried />
    </div>
  {/if}
</section>
