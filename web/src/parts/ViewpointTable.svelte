<script lang="ts">
  import { useViewpoint } from "../api/queries";
  import Address from "./Address.svelte";
  import Known from "./Known.svelte";

  interface Props {
    design: string;
    viewer: string;
    name: string;
  }
  const { design, viewer, name }: Props = $props();
  const seen = useViewpoint(
    () => design,
    () => viewer,
  );
  let most = $state(60);
  const count = (n: number) => (n === 1 ? "1 named host" : `${n} named hosts`);
</script>

<!-- The ledger from one party's point of view: what it dials to reach whom. -->
<section aria-label="What it dials">
  <h2>What {name} dials</h2>
  <Known of={seen} what="What {name} dials" />
  {#if seen.data}
    {@const hosts = seen.data.hosts}
    {#if hosts.length === 0}
      <p class="text-soft text-sm">It reaches no named host of others, under any name.</p>
    {:else}
      <table class="panel w-full text-sm">
        <thead>
          <tr class="label border-line border-b text-left">
            <th class="px-3 py-1 font-normal">To reach</th>
            <th class="px-3 py-1 font-normal">it dials</th>
            <th class="px-3 py-1 font-normal">which is</th>
            <th class="px-3 py-1 font-normal">really</th>
          </tr>
        </thead>
        <tbody>
          {#each hosts.slice(0, most) as h (h.host + h.real)}
            {#each h.names as n, i (n.address + (n.listener ?? "") + (n.link ?? ""))}
              <tr class="border-line border-b">
                <td class="px-3 py-1">{i ? "" : h.title}</td>
                <td class="px-3 py-1"
                  ><Address value={n.address} />
                  {#if n.listener}<span class="font-mono">{n.service}</span>{/if}</td
                >
                <td class="px-3 py-1">{n.listener ? "published" : n.mapping ? "mapped" : "its own"}</td>
                <td class="px-3 py-1"
                  >{#if !i}<Address value={h.real} />{/if}</td
                >
              </tr>
            {/each}
          {/each}
        </tbody>
      </table>
      {#if hosts.length > most}<button class="button mt-1" onclick={() => (most += 200)}
          >{hosts.length - most} more</button
        >{/if}
    {/if}
    <p class="text-soft text-sm">
      {#if seen.data.left}{count(seen.data.left)} more are reached and not listed; look them up, or take the CSV.{/if}
      {#if seen.data.unreached}{count(seen.data.unreached)} of others {seen.data.unreached === 1
          ? "is"
          : "are"}
        reached under no name.{/if}
    </p>
  {/if}
</section>
