import { untrack } from "svelte";

const most = 8;

/** What was done lately under a key, the last first; kept by the browser. */
export function recent(key: () => string) {
  const read = (): string[][] => {
    try {
      const list: unknown = JSON.parse(localStorage.getItem(key()) ?? "[]");
      return Array.isArray(list)
        ? list.filter((x): x is string[] => Array.isArray(x) && x.every((y) => typeof y === "string"))
        : [];
    } catch {
      return [];
    }
  };
  let turn = $state(0);
  const list = $derived.by(() => {
    void turn;
    return read();
  });
  return {
    get list() {
      return list;
    },
    add(item: string[]): void {
      const same = item.join("\u0001");
      const now = [item, ...untrack(read).filter((x) => x.join("\u0001") !== same)].slice(0, most);
      localStorage.setItem(key(), JSON.stringify(now));
      turn++;
    },
  };
}
