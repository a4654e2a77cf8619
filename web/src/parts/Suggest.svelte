<script lang="ts">
  import { Combobox } from "bits-ui";
  import { tick } from "svelte";

  export interface Option {
    value: string;
    label: string;
    hint?: string;
  }
  interface Props {
    label: string;
    /** What may be chosen for what is typed. */
    options: (text: string) => Option[] | Promise<Option[]>;
    /** What stands there: the text of a free field, or the title of what is chosen. */
    text: string;
    /** Called with what was chosen from the list, or, where any text will do, with what was typed. */
    choose: (value: string, label: string) => void;
    /** Any text will do. */
    free?: boolean;
    placeholder?: string;
    mono?: boolean;
    name?: string;
    id?: string;
    describedby?: string;
  }
  const {
    label,
    options,
    text,
    choose,
    free = false,
    placeholder = "",
    mono = false,
    name,
    id,
    describedby,
  }: Props = $props();

  /** What is typed; it becomes what stands there when that changes. */
  let typed = $derived(text);
  let open = $state(false);
  let list = $state.raw<Option[]>([]);

  /** What options are wanted for; undefined while none are. */
  let query = $state<string>();
  let moved = false; // an option was chosen by the arrows
  let asked = 0;
  // What can be chosen may come, or change, after it was asked for.
  $effect(() => {
    const turn = ++asked;
    if (query === undefined) return;
    const found = options(query);
    void Promise.resolve(found).then((all) => {
      if (turn !== asked) return;
      list = all.slice(0, 60);
      if (list.length) open = true;
    });
  });
  let rest: ReturnType<typeof setTimeout> | undefined;
  function oninput(e: Event): void {
    typed = (e.currentTarget as HTMLInputElement).value;
    open = true;
    moved = false;
    clearTimeout(rest);
    rest = setTimeout(() => (query = typed), 80);
    if (free) choose(typed, typed);
  }
  function show(): void {
    query = free || typed === text ? "" : typed;
  }
  function close(): void {
    clearTimeout(rest);
    query = undefined;
  }
  /** A word that is nobody's is not left status. */
  function leave(): void {
    close();
    if (!free && typed !== text) typed = text;
  }
  function take(o: Option | undefined): void {
    if (!o) return;
    const before = text;
    typed = o.label;
    choose(o.value, o.label);
    // What only adds to something beside it stands empty again.
    void tick().then(() => {
      if (!free && before === "" && text === "") typed = "";
    });
  }
  /** A whole name is chosen as it stands, also before its list has come. */
  async function takeWhole(name: string): Promise<void> {
    const all = await options(name);
    if (typed.trim().toLowerCase() !== name) return;
    const whole = all.find((o) => o.label.toLowerCase() === name);
    if (!whole) return;
    open = false;
    close();
    take(whole);
  }
  function onkeydown(e: KeyboardEvent): void {
    if (e.key === "ArrowDown" && !open) show();
    if (e.key === "ArrowDown" || e.key === "ArrowUp") moved = true;
    if (e.key === "Enter" && !free && !moved && typed.trim() && typed !== text) {
      const name = typed.trim().toLowerCase();
      if (!list.length || list.some((o) => o.label.toLowerCase() === name)) e.preventDefault();
      void takeWhole(name);
    }
    if (e.key !== "Escape") e.stopPropagation();
  }
</script>

<Combobox.Root
  type="single"
  value=""
  bind:open
  inputValue={typed}
  onOpenChange={(now) => {
    if (!now) close();
  }}
  onValueChange={(v) => take(list.find((x) => x.value === v))}
>
  <Combobox.Input
    {id}
    {name}
    aria-label={label}
    aria-describedby={describedby}
    autocomplete="off"
    spellcheck="false"
    {placeholder}
    class="field {mono ? 'font-mono' : ''}"
    {oninput}
    onclick={show}
    onblur={leave}
    {onkeydown}
  />
  <Combobox.Portal>
    <Combobox.Content
      class="border-ink bg-sheet z-30 max-h-72 max-w-[32rem] min-w-(--bits-combobox-anchor-width) overflow-y-auto border-2"
      sideOffset={2}
    >
      {#each list as o (o.value)}
        <Combobox.Item
          value={o.value}
          label={o.label}
          class="data-[highlighted]:bg-mark flex cursor-pointer items-baseline gap-3 px-3 py-1 text-sm"
        >
          <span class="shrink-0 {mono ? 'font-mono' : ''}">{o.label}</span>
          {#if o.hint}<span class="text-soft ml-auto truncate">{o.hint}</span>{/if}
        </Combobox.Item>
      {:else}
        <p class="text-soft px-3 py-1 text-sm">Nothing fits.</p>
      {/each}
    </Combobox.Content>
  </Combobox.Portal>
</Combobox.Root>
