<script lang="ts">
  import { X } from "@lucide/svelte";
  import { useExplain } from "../api/queries";
  import { placeURL } from "../lib/places";
  import { pathWords, readKey } from "../lib/routes";
  import Address from "./Address.svelte";
  import Known from "./Known.svelte";

  interface Props {
    design: string;
    table: string;
    /** The prefix or address that is asked for. */
    asked: string;
    close: () => void;
  }
  const { design, table, asked, close }: Props = $props();
  const explained = useExplain(
    () => design,
    () => ({ ...readKey(table), for: asked }),
  );
  const e = $derived(explained.data);
</script>

<section class="px-4 py-3 text-sm" aria-label="Why">
  <Known of={explained} what="The reason" />
  {#if e}
    <header class="flex items-start gap-3">
      <p class="text-base">
        {#if e.winner}
          {e.title} sends <Address value={e.asked} /> by <strong>{e.winner.via}</strong> ({e.winner.source}{e
            .winner.prefix !== e.asked
            ? `, for ${e.winner.prefix}`
            : ""}){#if e.shares.length}, and shares with {e.shares.map((x) => x.via).join(" and ")}{/if}.
        {:else}
          <strong class="text-clash">{e.title} has no usable route for {e.asked}.</strong>
        {/if}
      </p>
      <a
        class="button ml-auto"
        href={placeURL(design, "routes", { as: "prefix", prefix: e.winner?.prefix ?? e.asked })}
        >This prefix everywhere</a
      >
      <button class="button" aria-label="Close the explanation" onclick={close}><X size={16} /></button>
    </header>
    <div class="mt-2 grid gap-6 min-[1100px]:grid-cols-2">
      <div>
        <h3>Its way through the estate</h3>
        <ol class="mt-1">
          {#each e.way as step, n (n)}
            <li class="border-line grid grid-cols-[1.6rem_1fr] border-b py-1">
              <span class="text-soft font-mono">{n + 1}</span>
              <span
                ><strong>{step.title}</strong>: {step.by_name && step.says !== step.by_name
                  ? `${step.says} by ${step.by_name}`
                  : step.says}{#if step.path.length}<span class="text-soft"
                    >, path <span class="font-mono">{pathWords(step.path)}</span></span
                  >{/if}</span
              >
            </li>
          {/each}
        </ol>
      </div>
      <div>
        <h3>{e.rivals.length ? "What lost, and by which rule" : "Nothing else was there"}</h3>
        {#each e.rivals as r, n (n)}
          <p class="border-line border-b py-1">
            <span class="font-mono">{r.prefix}</span> by {r.via}
            <span class="text-soft"
              >({r.source}{#if r.path.length}, path <span class="font-mono">{pathWords(r.path)}</span
                >{/if})</span
            >: <strong>{r.rule}</strong>
          </p>
        {/each}
      </div>
    </div>
  {/if}
</section>
