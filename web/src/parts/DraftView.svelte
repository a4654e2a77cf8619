<script lang="ts">
  import { onDestroy } from "svelte";
  import { Toggle } from "bits-ui";
  import { useQueryClient } from "@tanstack/svelte-query";
  import type { Shape } from "../api/client";
  import { useEstate, useShapes, writer } from "../api/queries";
  import { speed } from "../lib/links";
  import { urlState } from "../lib/url.svelte";
  import { goTo } from "../router";
  import RouteEffect from "./RouteEffect.svelte";
  import PartyPicker from "./PartyPicker.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const estate = useEstate(() => design);
  const a = urlState("a");
  const b = urlState("b");
  const gb = urlState("gb");
  const chosen = urlState("shape");
  const traffic = $derived(Math.min(10_000_000, Math.max(0, Math.round(Number(gb.value || 1000)) || 0)));
  const shapes = useShapes(
    () => design,
    () => ({ a: a.value, b: b.value, gb: traffic }),
  );
  const write = writer(useQueryClient(), () => design);

  const parties = $derived(estate.data?.parties ?? []);
  const name = (id: string) => parties.find((x) => x.id === id)?.name ?? "";
  const possible = $derived((shapes.data ?? []).filter((s) => !s.out.length));
  const out = $derived((shapes.data ?? []).filter((s) => s.out.length));
  const shown = $derived(possible.find((s) => s.key === chosen.value));
  const priced = $derived(possible.filter((s) => !s.unpriced));
  const least = (s: Shape) =>
    !s.unpriced &&
    priced.length > 1 &&
    Number(s.monthly) === Math.min(...priced.map((x) => Number(x.monthly)));
  const fewest = (of: (s: Shape) => number) => Math.min(...possible.map(of));
  const steps = (s: Shape) => s.parties.reduce((n, x) => n + x.steps.length, 0);

  let here = true; // nobody has gone elsewhere while the answer was on its way
  onDestroy(() => (here = false));
  async function draft(s: Shape): Promise<void> {
    const done = await write.change(`Draft ${s.title}: ${name(a.value)} and ${name(b.value)}`, s.edits);
    if (done && here) goTo(design, "links", s.subject ? { link: s.subject } : {});
  }
</script>

<div class="flex h-full flex-col overflow-hidden">
  <div class="border-line flex flex-wrap items-end gap-3 border-b px-4 py-2">
    <PartyPicker label="Join" {parties} value={a.value} choose={(id) => (a.value = id)} />
    <PartyPicker label="with" {parties} value={b.value} choose={(id) => (b.value = id)} />
    <label class="w-56"
      ><span class="label">Gigabytes a month, both ways</span>
      <input
        class="field"
        type="number"
        min="0"
        max="10000000"
        value={traffic}
        onchange={(e) => (gb.value = e.currentTarget.value)}
      /></label
    >
  </div>
  <div class="min-h-0 flex-1 overflow-auto p-4">
    {#if shapes.error}
      <p role="alert" class="text-clash">{shapes.error.message}</p>
    {:else if !a.value || !b.value}
      <p class="max-w-prose">
        Choose two parties: Dravin lists the ways to join them that their clouds allow, side by side, and
        drafts the one you take with everything filled in. In Estate, select a party and take
        <em>Draft a link from here</em>.
      </p>
    {:else if shapes.data}
      {#if possible.length}
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <div class="overflow-x-auto" tabindex="0" role="region" aria-label="Shapes side by side">
          <table class="border-collapse text-sm">
            <thead>
              <tr>
                <th class="w-32 min-w-32"></th>
                {#each possible as s (s.key)}
                  <th
                    class="border-line w-60 min-w-60 border px-3 py-2 text-left align-top {s.key ===
                    shown?.key
                      ? 'bg-mark'
                      : 'bg-sheet'}"
                  >
                    <span class="text-base">{s.title}</span>
                    <span class="mt-2 flex gap-1.5">
                      <button class="button button-main" onclick={() => draft(s)}>Draft it</button>
                      <Toggle.Root
                        class="button font-normal"
                        pressed={s.key === shown?.key}
                        onPressedChange={(on) => (chosen.value = on ? s.key : "")}>Values</Toggle.Root
                      >
                    </span>
                  </th>
                {/each}
              </tr>
            </thead>
            <tbody class="align-top">
              <tr>
                <th class="text-soft py-2 pr-3 text-left font-normal">A month</th>
                {#each possible as s (s.key)}
                  <td class="border-line border px-3 py-2">
                    <span class="font-mono text-base {least(s) ? 'font-semibold' : ''}">{s.monthly}</span>
                    {#if least(s)}<span class="text-good ml-1">least</span>{/if}
                    {#if s.unpriced}<span class="text-warn block">and {s.unpriced}</span>{/if}
                    {#each s.costs as c, n (n)}
                      <span class="text-soft flex justify-between gap-2"
                        ><span>{c.text}</span><span class="font-mono">{Number(c.amount).toFixed(2)}</span
                        ></span
                      >
                    {/each}
                  </td>
                {/each}
              </tr>
              <tr>
                <th class="text-soft py-2 pr-3 text-left font-normal">Bandwidth</th>
                {#each possible as s (s.key)}<td class="border-line border px-3 py-2"
                    >{s.key.startsWith("vpn") && s.mbps === 0 ? "as the gateways do" : speed(s.mbps)}</td
                  >{/each}
              </tr>
              <tr>
                <th class="text-soft py-2 pr-3 text-left font-normal">Survives</th>
                {#each possible as s (s.key)}<td
                    class="border-line border px-3 py-2 {s.fragile ? 'text-warn' : ''}"
                    >{#if s.fragile}<strong>Fragile:&nbsp;</strong>{/if}{s.survives}</td
                  >{/each}
              </tr>
              <tr>
                <th class="text-soft py-2 pr-3 text-left font-normal">Gets built</th>
                {#each possible as s (s.key)}
                  <td class="border-line border px-3 py-2">
                    <ul>
                      {#each s.builds as x, n (n)}
                        <li class={x.reused ? "text-soft" : ""}>
                          <span class="font-mono" aria-hidden="true">{x.reused ? "=" : "+"}</span>
                          {x.what}{x.reused ? " is used as it is" : ""}
                        </li>
                      {/each}
                    </ul>
                  </td>
                {/each}
              </tr>
              <tr>
                <th class="text-soft py-2 pr-3 text-left font-normal">Who does what</th>
                {#each possible as s (s.key)}
                  <td class="border-line border px-3 py-2">
                    <p>
                      {steps(s)} steps{possible.length > 1 && steps(s) === fewest(steps)
                        ? ", the fewest"
                        : ""}
                    </p>
                    {#each s.parties as x (x.party)}
                      <p class="mt-1 font-semibold">{x.party}</p>
                      <ol class="list-inside list-decimal">
                        {#each x.steps as step, n (n)}<li>{step}</li>{/each}
                      </ol>
                    {/each}
                  </td>
                {/each}
              </tr>
              <tr>
                <th class="text-soft py-2 pr-3 text-left font-normal">Routes and flows</th>
                {#each possible as s (s.key)}
                  <td class="border-line border px-3 py-2"
                    ><RouteEffect {design} change={{ edits: s.edits }} /></td
                  >
                {/each}
              </tr>
              <tr>
                <th class="text-soft py-2 pr-3 text-left font-normal">The next network</th>
                {#each possible as s (s.key)}
                  <td class="border-line border px-3 py-2"
                    ><strong>{s.next} {s.next === 1 ? "step" : "steps"}</strong>: {s.next_why}</td
                  >
                {/each}
              </tr>
            </tbody>
          </table>
        </div>
      {:else}
        <p>Nothing joins these two as things stand.</p>
      {/if}
      {#if shown}
        <section class="mt-5 max-w-5xl" aria-label="Values">
          <h2>What is filled in: {shown.title}</h2>
          <dl class="mt-1 grid grid-cols-[max-content_minmax(12rem,1fr)_2fr] gap-x-4 text-sm">
            {#each shown.suggestions as x, n (n)}
              <dt class="text-soft border-line border-b py-1">{x.what}</dt>
              <dd class="border-line border-b py-1 font-mono break-words">{x.value}</dd>
              <dd class="border-line border-b py-1">{x.why}</dd>
            {/each}
          </dl>
          <p class="text-soft mt-1 text-sm">
            All of it can be changed once it is drafted, and undone as one.
          </p>
        </section>
      {/if}
      {#if out.length}
        <section class="mt-5 max-w-5xl" aria-label="Not possible">
          <h2>Not possible here</h2>
          <dl class="mt-1 grid grid-cols-[17rem_1fr] gap-x-4 text-sm">
            {#each out as s (s.key)}
              <dt class="border-line border-b py-1">{s.title}</dt>
              <dd class="text-soft border-line border-b py-1">{s.out.join("; ")}</dd>
            {/each}
          </dl>
        </section>
      {/if}
    {/if}
  </div>
</div>
