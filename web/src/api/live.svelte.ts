import type { QueryClient } from "@tanstack/svelte-query";
import { designKey } from "./queries";

/** Watches a design and looks again at everything when anybody changes it. Call it in a component. */
export function watchDesign(queries: QueryClient, design: () => string): void {
  $effect(() => {
    const id = design();
    const source = new EventSource(`/api/designs/${id}/events`);
    const again = () => void queries.invalidateQueries({ queryKey: designKey(id) });
    source.addEventListener("changed", again);
    // After a break something may have been missed.
    let broken = false;
    source.addEventListener("error", () => (broken = true));
    source.addEventListener("open", () => {
      if (broken) again();
      broken = false;
    });
    return () => source.close();
  });
}
