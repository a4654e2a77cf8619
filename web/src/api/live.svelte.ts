import type { QueryClient } from "@tanstack/svelte-query";
import { designKey } from "./queries";

/** Watches a design and looks again at everything when anybody changes it. Call it in a component. */
export function watchDesign(queries: QueryClient, design: () => string): void {
  $effect(() => {
    const id = design();
    const again = () => void queries.invalidateQueries({ queryKey: designKey(id) });
    let source: EventSource;
    let waits: ReturnType<typeof setTimeout> | undefined;
    let broken = false;
    const watch = () => {
      source = new EventSource(`/api/designs/${id}/events`);
      source.addEventListener("changed", again);
      // After a break something may have been missed.
      source.addEventListener("open", () => {
        if (broken) again();
        broken = false;
      });
      source.addEventListener("error", () => {
        broken = true;
        // Refused, not cut off: the browser does not try again by itself.
        if (source.readyState === EventSource.CLOSED) waits = setTimeout(watch, 5000);
      });
    };
    watch();
    return () => {
      clearTimeout(waits);
      source.close();
    };
  });
}
