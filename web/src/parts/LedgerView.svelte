<script lang="ts">
  import { Download } from "@lucide/svelte";
  import type { Ledger, PublishedService } from "../api/client";
  import { useAsked } from "../api/queries";
  import { urlState } from "../lib/url.svelte";
  import Address from "./Address.svelte";
  import Suggest from "./Suggest.svelte";
  import Verdict from "./Verdict.svelte";
  import ViewpointTable from "./ViewpointTable.svelte";

  interface Props {
    design: string;
    ledger: Ledger;
    address: string;
    ask: (text: string) => void;
  }
  const { design, ledger, address, ask }: Props = $props();
  const asked = useAsked(
    () => design,
    () => address,
  );
  const party = urlState("party");
  const of = (x: { party: string }) => !party.value || x.party === party.value;
  const ranges = $derived(ledger.ranges.filter((r) => of(r) || r.viewers.includes(party.value)));
  const hidden = $derived(ledger.hidden.filter(of));
  const services = $derived(ledger.services.filter(of));
  const file = (format: string) =>
    `/api/designs/${design}/ledger/file?format=${format}${party.value ? `&viewer=${party.value}` : ""}`;
  const chosenParty = $derived(ledger.parties.find((p) => p.id === party.value));
  const chosen = $derived(chosenParty?.name ?? "");
  const looks = $derived(chosenParty?.looks ?? false);
  const viewpoints = (text: string) =>
    [
      { value: "everybody", label: "everybody" },
      ...ledger.parties.map((p) => ({ value: p.id, label: p.name })),
    ].filter((o) => o.label.toLowerCase().includes(text.trim().toLowerCase()));
  const list = (ps: string[], none: string) => (ps.length ? ps.join(", ") : none);
  let most = $state(100);
</script>

{#snippet chain(s: PublishedService)}
  {#each s.chain as l, n (n)}
    {n ? " → " : ""}<Address value={l.address} />
    <span class="font-mono">{l.service}</span>
    <span class="text-soft">at {l.at}, {l.how}</span>
  {/each}
  → {s.title}
{/snippet}

<div class="flex min-h-0 flex-1 flex-col gap-3 overflow-y-auto p-3" role="region" aria-label="Ledger">
  <div class="flex flex-wrap items-center gap-2">
    <form
      class="flex items-center gap-2"
      onsubmit={(e) => {
        e.preventDefault();
        ask(String(new FormData(e.currentTarget).get("address")).trim());
      }}
    >
      <label class="label" for="address">Whose is it, and what else is it called?</label>
      <input
        id="address"
        name="address"
        class="field w-64 font-mono"
        value={address}
        placeholder="an address, a range or a host"
      />
      <button class="button">Look up</button>
    </form>
    <label class="label ml-auto" for="of-party">Of, or as seen by</label>
    <div class="w-48">
      <Suggest
        id="of-party"
        label="Of, or as seen by"
        text={chosen || "everybody"}
        options={viewpoints}
        choose={(id) => (party.value = id === "everybody" ? "" : id)}
      />
    </div>
    <a class="button" href={file("csv")} download><Download size={15} />CSV</a>
    <a class="button" href={file("xlsx")} download><Download size={15} />XLSX</a>
    {#if looks}
      <a class="button" href={file("zone")} download title="The names that {chosen} should use"
        ><Download size={15} />Zone for {chosen}</a
      >
    {:else}
      <span class="text-soft text-sm">Choose a party for its zone file</span>
    {/if}
  </div>
  {#if address}
    <div class="panel px-3 py-2" data-testid="names" aria-live="polite">
      {#if asked.error}
        <p class="text-clash" role="alert">{asked.error.message}</p>
      {:else if asked.data}
        {#each asked.data.hosts as who (who.place + who.real)}
          <p>
            <span class="font-semibold">{who.title}</span>:
            {#each who.names as n, i (n.address + (n.listener ?? "") + (n.link ?? ""))}
              {i ? "; " : ""}<Address value={n.address} />
              {#if n.listener}<span class="font-mono">{n.service}</span>{/if}
              <span class="text-soft"
                >{n.listener ? "published, " : n.mapping ? "mapped, " : "real, "}seen by {n.seen}</span
              >
            {/each}
          </p>
        {/each}
        {#each asked.data.part as p (p.of + p.is + p.word)}
          <p><Address value={p.asked} /> {p.word} <Address value={p.is} /></p>
        {/each}
        {#each asked.data.ranges as k (k.of + k.real + k.at)}
          <p class="text-sm">
            {k.title}: <Address value={k.real} /> is seen as <Address value={k.mapped} />
            {k.toward ? `beyond ${k.toward}` : "by who dials it"}; {k.sum}.
          </p>
        {/each}
        {#each asked.data.hidden as h, n (n)}
          <p class="text-sm">
            {h.title}: {list(h.ranges, "everything")} hidden behind
            <span class="font-mono">{list(h.as, "its own address")}</span> at {h.at_title}; nobody can call it
            there.
          </p>
        {/each}
        {#if asked.data.hosts.length + asked.data.ranges.length + asked.data.hidden.length === 0}
          <p>Nobody in this design has {address}.</p>
        {/if}
      {/if}
    </div>
  {/if}
  {#if looks}<ViewpointTable {design} viewer={party.value} name={chosen} />{/if}
  <section aria-label="Ranges">
    <h2>Ranges that are seen as others</h2>
    <table class="panel w-full text-sm">
      <thead>
        <tr class="label border-line border-b text-left">
          <th class="px-3 py-1 font-normal">Whose</th>
          <th class="px-3 py-1 font-normal">Real</th>
          <th class="px-3 py-1 font-normal">Seen as</th>
          <th class="px-3 py-1 font-normal">By</th>
          <th class="px-3 py-1 font-normal">Translated at</th>
        </tr>
      </thead>
      <tbody>
        {#each ranges.slice(0, most) as e (e.of + e.at + e.real + e.mapped)}
          <tr class="border-line border-b" title={e.sum}>
            <td class="px-3 py-1">{e.title}</td>
            <td class="px-3 py-1"><Address value={e.real} /></td>
            <td class="px-3 py-1"><Address value={e.mapped} /></td>
            <td class="px-3 py-1">{e.toward ? `everyone beyond ${e.toward}` : "who dials it"}</td>
            <td class="px-3 py-1">{e.at_title}</td>
          </tr>
          {#each e.hosts as h (h.title + h.real)}
            <tr class="border-line border-b">
              <td class="px-3 py-1 pl-7">{h.title}</td>
              <td class="px-3 py-1"><Address value={h.real} /></td>
              <td class="px-3 py-1"
                >{#each h.names.filter((n) => n.mapping === e.of).slice(0, 1) as n (n.address)}<Address
                    value={n.address}
                  />{/each}</td
              >
              <td class="px-3 py-1" colspan="2"
                >{h.names.find((n) => n.mapping === e.of && n.parties.length)?.seen ?? "nobody yet"}</td
              >
            </tr>
          {/each}
        {:else}
          <tr
            ><td class="text-soft px-3 py-2" colspan="5"
              >{chosen ? `Nothing of ${chosen} is mapped` : "Nothing is mapped"}: everyone is seen by their
              real address.</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
    {#if ranges.length > most}<button class="button mt-1" onclick={() => (most += 200)}
        >{ranges.length - most} more</button
      >{/if}
    {#if ledger.left}<p class="text-soft text-sm">
        {ledger.left} more named hosts are not listed; look one up by its name or address.
      </p>{/if}
  </section>
  {#if hidden.length}
    <section aria-label="Hidden">
      <h2>Hidden behind a few addresses</h2>
      {#each hidden as h, n (n)}
        <p class="border-line border-b py-1 text-sm">
          {h.title}: <span class="font-mono">{list(h.ranges, "everything")}</span> as
          <span class="font-mono">{list(h.as, "its own address there")}</span> at {h.at_title}{h.toward
            ? `, toward ${h.toward}`
            : ""}{h.only.length ? `, for ${h.only.join(", ")} only` : ""}; they share its ports 1024 to 65535,
          and nobody can call back.
        </p>
      {/each}
    </section>
  {/if}
  <section aria-label="Published services">
    <h2>Published services</h2>
    {#each services as s (s.id)}
      <p class="border-line border-b py-1 text-sm">
        <span class="font-semibold">{s.name}</span>: {@render chain(s)}
        {#if s.down}<Verdict good={false} word="down" /> {s.down}{/if}
        {#if !s.answers}<Verdict good={false} word="the target does not listen for it" />{/if}
        <span class="text-soft">callers: {list(s.callers, "everybody")}</span>
      </p>
    {:else}
      <p class="text-soft text-sm">None{chosen ? ` of ${chosen}` : ""}.</p>
    {/each}
  </section>
  {#if ledger.pools.length}
    <section aria-label="Pools">
      <h2>Pools, and how full they get</h2>
      {#each ledger.pools as p, n (n)}
        <div class="border-line flex items-center gap-3 border-b py-1 text-sm">
          <Address value={p.pool} />
          <span class="border-rule bg-sunk relative h-4 w-40 shrink-0 border" aria-hidden="true"
            ><span
              class="absolute inset-y-0 left-0 {p.percent > 100
                ? 'bg-clash'
                : p.percent >= 80
                  ? 'bg-warn'
                  : 'bg-good'}"
              style:width="{Math.min(100, p.percent)}%"
            ></span></span
          >
          <span class="w-14 text-right font-mono">{p.percent} %</span>
          <span
            >{p.title}: {p.addresses} × 64,512 ports by protocol and far end; {p.ends}; {p.named} of them named
            here.</span
          >
        </div>
      {/each}
    </section>
  {/if}
  {#if ledger.unneeded.length}
    <section aria-label="Not needed">
      <h2>Not needed any more</h2>
      {#each ledger.unneeded as u, n (n)}<p class="text-sm">{u.title}: {u.why}.</p>{/each}
    </section>
  {/if}
</div>
