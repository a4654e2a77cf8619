<script lang="ts">
  import type { FilterRange, FilterSide, HeldRule } from "../api/client";
  import { placeURL } from "../lib/places";
  import Verdict from "./Verdict.svelte";

  interface Props {
    design: string;
    side: FilterSide;
    /** What intents are called, by ID. */
    names: Map<string, string>;
  }
  const { design, side, names }: Props = $props();
  const heading: Record<string, string> = {
    in: "May come in",
    out: "May go out",
    forwarded: "May pass",
  };
  let open = $state<string>();
  let most = $state(200);
  const standing = (r: HeldRule): string =>
    ({
      needed: "needed",
      unneeded: "not needed",
      never: "fits nothing that comes by",
      shadowed: `never asked: rule ${r.by} is for all of it`,
      contradicted: `does nothing: rule ${r.by} does the contrary`,
      waits: "waits: its intent does not work yet",
      guards: "refuses",
      "for-the-box": "for the box itself",
    })[r.standing] ?? r.standing;
  const good = (r: HeldRule) => r.standing === "needed";
</script>

{#snippet ranges(list: FilterRange[])}
  {#each list.slice(0, 8) as p (p.range)}
    <span class="block"
      ><span class="font-mono">{p.range}</span>{#if p.whose}<span class="text-soft block">{p.whose}</span
        >{/if}</span
    >
  {:else}anywhere{/each}
  {#if list.length > 8}<details>
      <summary>{list.length - 8} more</summary>
      {#each list.slice(8) as p (p.range)}<span class="block font-mono">{p.range}</span>{/each}
    </details>{/if}
{/snippet}

<table class="w-full border-collapse text-sm" data-side={side.direction}>
  <caption class="label px-3 pt-2 text-left">{heading[side.direction]}</caption>
  <thead>
    <tr class="label border-line border-b text-left">
      <th class="w-8 px-3 py-1 font-normal">#</th>
      <th class="w-[22%] px-2 py-1 font-normal">From</th>
      <th class="w-[22%] px-2 py-1 font-normal">To</th>
      <th class="w-[20%] px-2 py-1 font-normal">Services</th>
      <th class="px-2 py-1 font-normal">Against the intents</th>
    </tr>
  </thead>
  <tbody>
    {#each side.rules.slice(0, most) as r (r.n)}
      <tr class="border-line border-b align-top {r.refuses ? 'bg-paper' : ''}" data-standing={r.standing}>
        <td class="text-soft px-3 py-1.5 font-mono">{r.n + 1}</td>
        <td class="px-2 py-1.5">{@render ranges(r.from)}</td>
        <td class="px-2 py-1.5">{@render ranges(r.to)}</td>
        <td class="px-2 py-1.5 font-mono"
          >{#if r.refuses}<span class="text-clash mr-1.5 font-sans font-semibold">refused:</span
            >{/if}{r.services.join(", ") || "everything"}</td
        >
        <td class="px-2 py-1.5">
          {#if good(r)}
            <button
              class="text-link underline"
              aria-expanded={open === `${r.n}`}
              onclick={() => (open = open === `${r.n}` ? undefined : `${r.n}`)}
              ><Verdict good word="needed by {r.intents.length}" /></button
            >
          {:else if r.idle}<span class="text-warn font-semibold">{standing(r)}</span>
          {:else}<span class="text-soft">{standing(r)}</span>{/if}
          {#if r.note}<span class="text-soft block">{r.note}</span>{/if}
          {#if open === `${r.n}`}
            <ul class="mt-1">
              {#each r.intents as i (i)}
                <li><a href={placeURL(design, "proof", { intent: i })}>{names.get(i) ?? i}</a></li>
              {/each}
            </ul>
          {/if}
        </td>
      </tr>
    {/each}
    {#if side.rules.length > most}
      <tr
        ><td colspan="5" class="px-3 py-1.5"
          ><button class="button" onclick={() => (most += 500)}>{side.rules.length - most} more</button></td
        ></tr
      >
    {/if}
    {#each side.missing.slice(0, most) as m, n (n)}
      <tr class="border-line text-clash border-b align-top" data-standing="missing">
        <td class="px-3 py-1.5"></td>
        <td class="px-2 py-1.5 font-mono">{m.from}</td>
        <td class="px-2 py-1.5 font-mono">{m.to}</td>
        <td class="px-2 py-1.5 font-mono">{m.service}</td>
        <td class="px-2 py-1.5">
          <Verdict good={false} word="missing" />{m.rule >= 0 ? `: rule ${m.rule + 1} refuses it` : ""}
          {#each m.intents as i (i)}
            <span class="block"
              ><a href={placeURL(design, "proof", { intent: i })}>{names.get(i) ?? i}</a>
              <a class="button" href={placeURL(design, "plan", { intent: i })}>Plan what lets it pass</a
              ></span
            >
          {/each}
        </td>
      </tr>
    {/each}
    <tr>
      <td class="px-3 py-1.5"></td>
      <td class="text-soft px-2 py-1.5" colspan="3">everything else</td>
      <td class="px-2 py-1.5 {side.default === 'allow' ? '' : 'text-soft'}"
        >{side.default === "allow" ? "passes" : "refused"}</td
      >
    </tr>
  </tbody>
</table>
