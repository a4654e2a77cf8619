import { createQuery } from "@tanstack/svelte-query";
import { client, data, type RehearsalEvent, type Rehearsing } from "./client";
import { designKey } from "./queries";

const at = (design: string, rehearsal: number) => ({ params: { path: { design, rehearsal } } });

export const useRehearsals = (d: () => string) =>
  createQuery(() => ({
    queryKey: [...designKey(d()), "rehearsals"],
    queryFn: () =>
      data(client.GET("/api/designs/{design}/rehearsals", { params: { path: { design: d() } } })),
    refetchInterval: 5_000,
  }));

export const rehearse = (
  design: string,
  body: { base: number; side: "planned" | "built"; steps: boolean; drills: number; sample: number },
) => data(client.POST("/api/designs/{design}/rehearsals", { params: { path: { design } }, body }));

export const cancelRehearsal = (design: string, rehearsal: number) =>
  data(client.POST("/api/designs/{design}/rehearsals/{rehearsal}/cancel", at(design, rehearsal)));

export const goesOn = (state: string): boolean => state === "waiting" || state === "playing";

/** How often a rehearsal that goes on is looked at, in milliseconds. */
const often = 700;

/** Follows a rehearsal until it ends, or stop is: tell hears it with all that has happened in it. */
export async function followRehearsal(
  design: string,
  rehearsal: number,
  tell: (r: Rehearsing, events: RehearsalEvent[]) => void,
  stop: AbortSignal,
): Promise<void> {
  const events: RehearsalEvent[] = [];
  while (!stop.aborted) {
    const r = await data(
      client.GET("/api/designs/{design}/rehearsals/{rehearsal}", {
        params: { path: { design, rehearsal }, query: { after: events.length } },
        signal: stop,
      }),
    );
    events.push(...r.events);
    tell(r, [...events]);
    if (!goesOn(r.state) && r.events.length === 0) return;
    if (goesOn(r.state)) await new Promise((done) => setTimeout(done, often));
  }
}

export const captureURL = (design: string, rehearsal: number, n: number): string =>
  `/api/designs/${encodeURIComponent(design)}/rehearsals/${rehearsal}/captures/${n}`;
