<script lang="ts">
  import type { LedgerEntry } from "../api/client";
  import { useNames } from "../api/queries";
  import Address from "./Address.svelte";

  interface Props {
    design: string;
    entries: LedgerEntry[];
    address: string;
    ask: (address: string) => void;
  }
  const { design, entries, address, ask }: Props = $props();
  const names = useNames(
    () => design,
    () => address,
  );
</script>

<section class="flex flex-col gap-2" aria-label="Ledger">
  <form
    class="flex items-center gap-2"
    onsubmit={(e) => {
      e.preventDefault();
      ask(String(new FormData(e.currentTarget).get("address")).trim());
    }}
  >
    <h2>Ledger: who is seen as what</h2>
    <label class="label ml-auto" for="address">Whose is it, and what else is it called?</label>
    <input
      id="address"
      name="address"
      class="field w-52 font-mono"
      value={address}
      placeholder="type an address"
    />
  </form>
  {#if address}
    <div class="panel px-3 py-2" data-testid="names" aria-live="polite">
      {#if names.error}
        <p class="text-clash" role="alert">{names.error.message}</p>
      {:else}
        {#each names.data ?? [] as who (who.place + who.real)}
          <p>
            <span class="font-semibold">{who.title}</span>:
            {#each who.names as n, i (n.address)}
              {i ? "; " : ""}<Address value={n.address} />
              <span class="text-soft">{n.mapping ? "mapped, " : "real, "}seen by {n.seen}</span>
            {/each}
          </p>
        {:else}
          {#if !names.isPending}<p>Nobody in this design has {address}.</p>{/if}
        {/each}
      {/if}
    </div>
  {/if}
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
      {#each entries as e (e.mapping)}
        <tr class="border-line border-b">
          <td class="px-3 py-1">{e.title}</td>
          <td class="px-3 py-1"><Address value={e.real} /></td>
          <td class="px-3 py-1"><Address value={e.mapped} /></td>
          <td class="px-3 py-1">everyone beyond {e.link}</td>
          <td class="px-3 py-1">{e.gateway}</td>
        </tr>
        {#each e.hosts as h (h.title)}
          <tr class="border-line border-b">
            <td class="px-3 py-1 pl-7">{h.title}</td>
            <td class="px-3 py-1"><Address value={h.real} /></td>
            <td class="px-3 py-1"
              >{#each h.names.filter((n) => n.mapping === e.mapping) as n (n.address)}<Address
                  value={n.address}
                />{/each}</td
            >
            <td class="px-3 py-1" colspan="2">{h.names.find((n) => n.mapping === e.mapping)?.seen}</td>
          </tr>
        {/each}
      {:else}
        <tr
          ><td class="text-soft px-3 py-2" colspan="5"
            >Nothing is mapped: everyone is seen by their real address.</td
          ></tr
        >
      {/each}
    </tbody>
  </table>
</section>
