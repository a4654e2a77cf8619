<script lang="ts">
  import { Copy, Download, Save, Trash2 } from "@lucide/svelte";
  import { useQueryClient } from "@tanstack/svelte-query";
  import { client, data, Refusal, type Problem, type ProfileView } from "../api/client";
  import { complain, useProfiles, writer } from "../api/queries";
  import { download } from "../lib/files";
  import { urlState } from "../lib/url.svelte";

  interface Props {
    design: string;
  }
  const { design }: Props = $props();
  const profiles = useProfiles(() => design);
  const write = writer(useQueryClient(), () => design);
  const chosen = urlState("profile");
  const list = $derived(profiles.data ?? []);
  const p = $derived(list.find((x) => x.name === chosen.value) ?? list[0]);

  /** What is being written; undefined while the profile is only read. */
  let text = $state<string>();
  let problems = $state.raw<NonNullable<Problem["errors"]>>([]);

  function choose(x: ProfileView): void {
    text = undefined;
    problems = [];
    chosen.value = x.name;
  }
  function copy(): void {
    if (!p) return;
    let name = `${p.name} copy`;
    for (let n = 2; list.some((x) => x.name === name); n++) name = `${p.name} copy ${n}`;
    text = p.text.replace(/^name: .*$/m, `name: ${name}`);
  }
  async function save(): Promise<void> {
    problems = [];
    try {
      const got = await data(
        client.POST("/api/designs/{design}/profiles", {
          params: { path: { design } },
          body: { text: text ?? "", base: write.base(), save: true },
        }),
      );
      text = undefined;
      chosen.value = got.name;
      await write.attempt(() => Promise.resolve(), `Saved the profile ${got.name}`);
    } catch (error) {
      if (error instanceof Refusal && error.problem.errors) problems = error.problem.errors;
      else complain(error);
    }
  }
  async function load(e: Event): Promise<void> {
    const file = (e.currentTarget as HTMLInputElement).files?.[0];
    if (file) text = await file.text();
  }
</script>

<div class="grid h-full grid-cols-[15rem_1fr]">
  <aside class="border-line overflow-y-auto border-r" aria-label="Profiles">
    <h2 class="px-3 pt-3 pb-1">Clouds</h2>
    {#each list as x (x.name)}
      <button class="row" aria-current={x.name === p?.name} onclick={() => choose(x)}
        >{x.name}<span class="text-soft block text-sm"
          >{x.shipped ? "ships with Dravin" : "yours"}, {x.used}
          {x.used === 1 ? "use" : "uses"} here</span
        ></button
      >
    {/each}
    <p class="p-3">
      <label class="button">Add from a file<input type="file" class="sr-only" onchange={load} /></label>
    </p>
  </aside>
  <section class="flex min-w-0 flex-col overflow-hidden" aria-label="Profile">
    <div class="border-line flex flex-wrap items-center gap-1.5 border-b px-4 py-2">
      <h1 class="text-lg">{text === undefined ? p?.name : "Writing a profile"}</h1>
      <span class="text-soft text-sm"
        >{text === undefined
          ? "What this cloud allows and charges. Everything that depends on a cloud asks its profile."
          : "Saved into this design; it goes before a shipped profile of the same name."}</span
      >
      <span class="ml-auto flex gap-1.5">
        {#if text === undefined}
          {#if p && !p.shipped}<button class="button" onclick={() => (text = p.text)}>Edit</button>
            <button
              class="button"
              aria-label="Remove the profile"
              onclick={() =>
                p.id && write.change(`Remove the profile ${p.name}`, [{ op: "remove", id: p.id }])}
              ><Trash2 size={16} /></button
            >{/if}
          <button class="button" onclick={copy}><Copy size={16} />Copy and edit</button>
          <button class="button" onclick={() => p && download(`${p.name.toLowerCase()}.yaml`, p.text)}
            ><Download size={16} />Download</button
          >
        {:else}
          <button class="button button-main" onclick={save}><Save size={16} />Save</button>
          <button class="button" onclick={() => ((text = undefined), (problems = []))}>Discard</button>
        {/if}
      </span>
    </div>
    {#if problems.length}
      <ul role="alert" class="border-clash text-clash max-h-40 overflow-y-auto border-b px-4 py-2">
        {#each problems as x, n (n)}
          <li>
            {x.line ? `line ${x.line}: ` : ""}{x.field ? `${x.field}: ` : ""}{x.why}{x.want
              ? `; ${x.want}`
              : ""}
          </li>
        {/each}
      </ul>
    {/if}
    {#if text === undefined}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre
        tabindex="0"
        aria-label={p?.name}
        class="min-h-0 flex-1 overflow-auto px-4 py-3 font-mono text-sm">{p?.text ?? ""}</pre>
    {:else}
      <textarea
        class="min-h-0 flex-1 resize-none bg-transparent px-4 py-3 font-mono text-sm"
        aria-label="The profile file"
        spellcheck="false"
        bind:value={text}></textarea>
    {/if}
  </section>
</div>
