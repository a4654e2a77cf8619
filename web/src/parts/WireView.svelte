<script lang="ts">
  import type { FlowSeen } from "../api/client";
  import Address from "./Address.svelte";

  interface Props {
    seen: FlowSeen;
  }
  const { seen }: Props = $props();
  const wire = $derived(seen.wire);
  const port = (n: number | undefined) => (n ? `:${n}` : "");
</script>

<h3 class="mt-3 mb-1">Where one can capture, and by which filter</h3>
<table class="panel w-full border-collapse text-sm" aria-label="Where one can capture">
  <tbody>
    {#each wire.interfaces ?? [] as i, n (n)}
      <tr class="border-line border-b align-top">
        <td class="text-soft px-2 py-1 font-mono">{n + 1}</td>
        <td class="px-2 py-1">{i.at.title}</td>
        <td class="px-2 py-1">{i.name}{i.vlan ? `, VLAN ${i.vlan}` : ""}</td>
        <td class="px-2 py-1"><Address value={i.filter} /></td>
      </tr>
    {:else}
      <tr><td class="text-soft px-2 py-1">It meets no host and no box of one's own.</td></tr>
    {/each}
  </tbody>
</table>
<div class="mt-3 grid grid-cols-[3fr_2fr] gap-4">
  <div>
    <h3 class="mb-1">Packets, in the order of time</h3>
    <ol class="panel text-sm" aria-label="Packets">
      {#each wire.packets ?? [] as p, n (n)}
        {@const i = (wire.interfaces ?? [])[p.interface]}
        <li class="border-line flex items-baseline gap-2 border-b px-2 py-0.5">
          <span class="text-soft w-6 shrink-0 font-mono">{p.interface + 1}</span>
          <span class="w-4 shrink-0" aria-label={p.way}>{p.way === "there" ? "→" : "←"}</span>
          <span class="min-w-0">
            {#if p.outer}<span class="font-semibold">{p.outer.udp ? "ESP in UDP" : "ESP"}</span>
              <span class="font-mono break-all">{p.outer.src} > {p.outer.dst}</span>
            {:else}<span class="font-semibold">{p.what}</span>
              <span class="font-mono break-all"
                >{p.header.src}{port(p.header.sport)} > {p.header.dst}{port(p.header.dport)}</span
              >{/if}
            <span class="text-soft">{p.leaves ? "leaves" : "comes to"} {i?.at.title}</span>
          </span>
        </li>
      {/each}
    </ol>
  </div>
  <div>
    <h3 class="mb-1">A trace from the source</h3>
    <ol class="panel text-sm" aria-label="Trace">
      {#each seen.hops ?? [] as h (h.n)}
        <li class="border-line border-b px-2 py-0.5">
          <span class="text-soft font-mono">{h.n}</span>
          {#if h.address}<span class="font-mono">{h.address}</span>{:else}<span class="font-mono">*</span
            >{/if}
          {h.at.title}
          {#if h.why}<span class="text-soft">({h.why})</span>{/if}
        </li>
      {:else}
        <li class="text-soft px-2 py-1">It comes by nobody who would answer.</li>
      {/each}
    </ol>
    {#if seen.logs?.length}
      <h3 class="mt-3 mb-1">What a log of the filters would say</h3>
      <ol class="panel text-sm" aria-label="Log lines">
        {#each seen.logs as l, n (n)}
          <li class="border-line border-b px-2 py-0.5"><span class="font-mono break-all">{l.line}</span></li>
        {/each}
      </ol>
    {/if}
  </div>
</div>
