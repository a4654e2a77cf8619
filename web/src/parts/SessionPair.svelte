<script lang="ts">
  import { stopWords } from "../api/codes";
  import type { Exchange } from "../api/client";
  import { useSession } from "../api/queries";
  import { pathWords } from "../lib/routes";
  import Address from "./Address.svelte";
  import Known from "./Known.svelte";
  import StatusLine from "./StatusLine.svelte";
  import Verdict from "./Verdict.svelte";

  interface Props {
    design: string;
    id: string;
  }
  const { design, id }: Props = $props();
  const session = useSession(
    () => design,
    () => id,
  );
  const s = $derived(session.data);
  const what = (x: Exchange): string =>
    [
      x.local_pref && x.local_pref !== 100 ? `local preference ${x.local_pref}` : "",
      x.med ? `MED ${x.med}` : "",
      ...x.communities,
    ]
      .filter(Boolean)
      .join(", ");
</script>

<Known of={session} what="The session" />
{#if s}
  <article class="flex flex-col gap-3 p-4">
    <header>
      <h2 class="text-lg">{s.name}</h2>
      {#if s.status.up}<p><Verdict good word="established" /></p>{:else}<StatusLine status={s.status} />{/if}
    </header>
    <div class="grid grid-cols-2 gap-4 text-sm">
      {#each s.sides as side, n (n)}
        {@const far = s.sides[1 - n]}
        <section class="panel min-w-0" aria-label="What {side.title} advertises">
          <header class="border-line border-b px-3 py-2">
            <h3>
              {side.title}
              <span class="text-soft font-normal">ASN <span class="font-mono">{side.asn}</span></span>
            </h3>
            <p class="text-soft">
              advertises {side.total}, of which {far?.title} takes {far?.takes}; takes {side.takes}{side.most
                ? ` of ${side.most} at most`
                : ""}
            </p>
            <details class="text-soft">
              <summary>What it announces and takes</summary>
              <p class="mt-1">
                Announces: {side.out.length ? "" : "its own ranges, and nothing that it learned"}
              </p>
              {#each side.out as r (r)}<p class="pl-3 font-mono text-xs">{r}</p>{/each}
              <p class="mt-1">Takes: {side.in.length ? "" : "everything"}</p>
              {#each side.in as r (r)}<p class="pl-3 font-mono text-xs">{r}</p>{/each}
              <p class="mt-1">Router ID <span class="font-mono">{side.router_id}</span></p>
            </details>
          </header>
          {#each side.advertises as x (x.prefix)}
            <div class="border-line border-b px-3 py-1.5">
              <p class="flex items-baseline gap-2">
                <Address value={x.prefix} />
                <span class="text-soft truncate font-mono" title={pathWords(x.path)}>{pathWords(x.path)}</span
                >
                <span class="ml-auto whitespace-nowrap">
                  {#if x.best}<Verdict good word="taken, used" />
                  {:else if x.taken}<span class="text-warn font-semibold"
                      ><span aria-hidden="true">=</span> taken, not used</span
                    >
                  {:else}<Verdict good={false} word={x.code ? stopWords[x.code] : "refused"} />{/if}
                </span>
              </p>
              {#if what(x) || x.learned}<p class="text-soft">
                  {[x.learned ? "learned elsewhere" : "", what(x)].filter(Boolean).join("; ")}
                </p>{/if}
              {#if x.why}<p class={x.taken ? "text-soft" : ""}>{x.why}.</p>{/if}
              {#if x.rule}<p class="text-soft font-mono text-xs break-words">{x.rule}</p>{/if}
            </div>
          {:else}
            <p class="text-soft px-3 py-2">
              {s.status.up
                ? "It has nothing to advertise."
                : "Nothing is advertised while the session is down."}
            </p>
          {/each}
          {#if side.total > side.advertises.length}<p class="text-soft px-3 py-2">
              {side.total - side.advertises.length} more; filter them in its table.
            </p>{/if}
        </section>
      {/each}
    </div>
  </article>
{/if}
