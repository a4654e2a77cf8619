import { createQuery, type QueryClient } from "@tanstack/svelte-query";
import { toast } from "svelte-sonner";
import { side } from "../lib/side";
import { offeredAgain, offerOf } from "../lib/offers";
import { doable } from "../lib/say";
import { working } from "../lib/working.svelte";
import {
  client,
  data,
  positionOf,
  Refusal,
  type Edit,
  type Heard,
  type PlanAsk,
  type PlanStep,
} from "./client";
import { watchPlan } from "./plan";

/** Everything known of one design lives under this key, so that one call makes it all look again. */
export const designKey = (design: string) => ["design", design];

const inside = (design: string) => ({ params: { path: { design } } });

/** A design as it is at the side that is looked at. */
const seen = (design: string) => ({ params: { path: { design }, query: { side: side() } } });

/** A view of a design: id names it among the design's views, fetch gets it. */
function view<T>(
  design: () => string,
  id: () => unknown[],
  fetch: () => Promise<T>,
  enabled: () => boolean = () => true,
) {
  return createQuery(() => ({
    queryKey: [...designKey(design()), side(), ...id()],
    queryFn: fetch,
    enabled: enabled(),
  }));
}

export const useDesigns = () =>
  createQuery(() => ({ queryKey: ["designs"], queryFn: () => data(client.GET("/api/designs")) }));

export const useDeleted = () =>
  createQuery(() => ({ queryKey: ["deleted"], queryFn: () => data(client.GET("/api/deleted")) }));

/** What every page should know of the server. */
export const useAbout = () =>
  createQuery(() => ({
    queryKey: ["about"],
    queryFn: () => data(client.GET("/api/about")),
    refetchInterval: 60_000,
  }));

export const useDesign = (d: () => string) =>
  view(
    d,
    () => ["state"],
    () => data(client.GET("/api/designs/{design}", seen(d()))),
  );

export const useEstate = (d: () => string) =>
  view(
    d,
    () => ["estate"],
    () => data(client.GET("/api/designs/{design}/estate", seen(d()))),
  );

export const useObject = (d: () => string, object: () => string) =>
  view(
    d,
    () => ["object", object()],
    () =>
      data(
        client.GET("/api/designs/{design}/objects/{object}", {
          params: { path: { design: d(), object: object() }, query: { side: side() } },
        }),
      ),
    () => object() !== "",
  );

export const useOverlaps = (d: () => string) =>
  view(
    d,
    () => ["overlaps"],
    () => data(client.GET("/api/designs/{design}/overlaps", seen(d()))),
  );

/** A plan, which tells how far it is while it is worked out. It is always of what is when all is built. */
export const usePlan = (d: () => string, ask: () => PlanAsk, progress: (step: PlanStep) => void) =>
  createQuery(() => ({
    queryKey: [...designKey(d()), "plan", ask()],
    queryFn: ({ signal }) => watchPlan(d(), ask(), progress, signal),
    enabled: Boolean(ask().group || ask().party?.length || ask().intent?.length || ask().place?.length),
    retry: false,
  }));

export const useLedger = (d: () => string) =>
  view(
    d,
    () => ["ledger"],
    () => data(client.GET("/api/designs/{design}/ledger", seen(d()))),
  );

/** What a party dials to reach the hosts of others. */
export const useViewpoint = (d: () => string, viewer: () => string) =>
  view(
    d,
    () => ["viewpoint", viewer()],
    () =>
      data(
        client.GET("/api/designs/{design}/ledger/view", {
          params: { path: { design: d() }, query: { viewer: viewer(), side: side() } },
        }),
      ),
    () => viewer() !== "",
  );

export const useAsked = (d: () => string, text: () => string) =>
  view(
    d,
    () => ["asked", text()],
    () =>
      data(
        client.GET("/api/designs/{design}/ledger/ask", {
          params: { path: { design: d() }, query: { q: text(), side: side() } },
        }),
      ),
    () => text() !== "",
  );

export const useFindings = (d: () => string) =>
  view(
    d,
    () => ["findings"],
    () => data(client.GET("/api/designs/{design}/findings", seen(d()))),
  );

export const useIntents = (d: () => string) =>
  view(
    d,
    () => ["intents"],
    () => data(client.GET("/api/designs/{design}/intents", seen(d()))),
  );

export const useIntentList = (d: () => string) =>
  view(
    d,
    () => ["intent-list"],
    () => data(client.GET("/api/designs/{design}/intent-list", seen(d()))),
  );

/** What filters let pass at a party, host, group or crossing; of all for an empty one. */
export const usePasses = (d: () => string, of: () => string) =>
  view(
    d,
    () => ["passes", of()],
    () =>
      data(
        client.GET("/api/designs/{design}/passes", {
          params: { path: { design: d() }, query: { side: side(), of: of() || undefined } },
        }),
      ),
  );

/** The fewest rules of filters that let pass exactly what intents need. */
export const useWorkedFilters = (
  d: () => string,
  ask: () => { filter: string[]; keep: boolean } | undefined,
) =>
  view(
    d,
    () => ["worked", ask()],
    () =>
      data(
        client.GET("/api/designs/{design}/passes/worked", {
          params: { path: { design: d() }, query: { side: side(), ...ask() } },
        }),
      ),
    () => ask() !== undefined,
  );

export const useCrossings = (d: () => string) =>
  view(
    d,
    () => ["crossings"],
    () => data(client.GET("/api/designs/{design}/crossings", seen(d()))),
  );

/** Rules pasted as text, as they would be brought into a filter. */
export const readRules = (design: string, body: { text: string; filter: string; replace: boolean }) =>
  data(client.POST("/api/designs/{design}/passes/read", { ...inside(design), body }));

export const useIntent = (d: () => string, intent: () => string) =>
  view(
    d,
    () => ["intent", intent()],
    () =>
      data(
        client.GET("/api/designs/{design}/intents/{intent}", {
          params: { path: { design: d(), intent: intent() }, query: { side: side() } },
        }),
      ),
    () => intent() !== "",
  );

/** An intent's walk as it would be after a change. */
export const useTried = (d: () => string, tried: () => { intent: string; edits: Change["edits"] }) =>
  view(
    d,
    () => ["tried", tried()],
    () =>
      data(
        client.POST("/api/designs/{design}/tried", {
          params: { path: { design: d() }, query: { side: side() } },
          body: { intent: tried().intent, edits: tried().edits ?? [] },
        }),
      ),
  );

export const useFixes = (d: () => string, key: () => string, wanted: () => boolean) =>
  view(
    d,
    () => ["fixes", key()],
    () =>
      data(
        client.GET("/api/designs/{design}/findings/fixes", {
          params: { path: { design: d() }, query: { key: key(), side: side() } },
        }),
      ),
    wanted,
  );

export interface Question {
  from: string;
  to: string;
  service: string;
}

export const useWalk = (d: () => string, q: () => Question) =>
  view(
    d,
    () => ["walk", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/walk", {
          params: { path: { design: d() }, query: { ...q(), side: side() } },
        }),
      ),
    () => Boolean(q().from && q().to && q().service),
  );

/** What a flow gets, and what one would see of it. */
export const useFlowSeen = (d: () => string, q: () => Question) =>
  view(
    d,
    () => ["walk-wire", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/walk/wire", {
          params: { path: { design: d() }, query: { ...q(), side: side() } },
        }),
      ),
    () => Boolean(q().from && q().to && q().service),
  );

/** Changes that would let a flow work, each tried. */
export const useFlowRemedies = (d: () => string, q: () => Question, wanted: () => boolean) =>
  view(
    d,
    () => ["walk-remedies", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/walk/remedies", {
          params: { path: { design: d() }, query: { ...q(), side: side() } },
        }),
      ),
    wanted,
  );

/** Holds a capture, or what a command printed, against a walk. */
export const holdSeen = (design: string, body: Question & { text?: string; file?: string }) =>
  data(
    client.POST("/api/designs/{design}/walk/held", {
      params: { path: { design }, query: { side: side() } },
      body,
    }),
  );

export interface MatrixQuestion {
  by: "host" | "place" | "group" | "party" | "segment" | "owner";
  within: string;
  service: string[];
  without: string[];
}

export const useMatrix = (d: () => string, q: () => MatrixQuestion) =>
  view(
    d,
    () => ["matrix", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/matrix", {
          params: {
            path: { design: d() },
            query: {
              by: q().by,
              within: q().within || undefined,
              service: q().service.length ? q().service : undefined,
              without: q().without.length ? q().without : undefined,
              side: side(),
            },
          },
        }),
      ),
  );

/** What a change would open and close. */
export const useMatrixChanged = (d: () => string, edits: () => Change["edits"], wanted: () => boolean) =>
  view(
    d,
    () => ["matrix-changed", edits()],
    () =>
      data(
        client.POST("/api/designs/{design}/matrix/changed", {
          params: { path: { design: d() }, query: { side: side() } },
          body: { by: "party", edits: edits() ?? [] },
        }),
      ),
    wanted,
  );

export interface CellQuestion {
  by: MatrixQuestion["by"];
  within: string;
  row: string;
  column: string;
  service: string[];
}

export const useCell = (d: () => string, q: () => CellQuestion, wanted: () => boolean) =>
  view(
    d,
    () => ["cell", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/matrix/cell", {
          params: {
            path: { design: d() },
            query: {
              by: q().by,
              within: q().within || undefined,
              row: q().row,
              column: q().column,
              service: q().service.length ? q().service : undefined,
              side: side(),
            },
          },
        }),
      ),
    wanted,
  );

export const useDrill = (d: () => string, without: () => string[]) =>
  view(
    d,
    () => ["drill", without()],
    () =>
      data(
        client.GET("/api/designs/{design}/drill", {
          params: { path: { design: d() }, query: { without: without(), side: side() } },
        }),
      ),
    () => without().length > 0,
  );

/** Changes by which intents survive a failure, each tried. */
export const useDrillRemedies = (d: () => string, without: () => string[], wanted: () => boolean) =>
  view(
    d,
    () => ["drill-remedies", without()],
    () =>
      data(
        client.GET("/api/designs/{design}/drill/remedies", {
          params: { path: { design: d() }, query: { without: without(), side: side() } },
        }),
      ),
    wanted,
  );

export const useStock = (d: () => string, wanted: () => boolean) =>
  view(
    d,
    () => ["stock"],
    () => data(client.GET("/api/designs/{design}/stock", seen(d()))),
    wanted,
  );

export interface FreeQuestion {
  size: number;
  within: string;
  parties: string[];
  segment: string;
}

export const useFree = (d: () => string, q: () => FreeQuestion, asked: () => boolean) =>
  view(
    d,
    () => ["free", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/free", {
          params: {
            path: { design: d() },
            query: {
              size: q().size,
              within: [q().within],
              for: q().parties,
              segment: q().segment || undefined,
            },
          },
        }),
      ),
    asked,
  );

export const useLinks = (d: () => string) =>
  view(
    d,
    () => ["links"],
    () => data(client.GET("/api/designs/{design}/links", seen(d()))),
  );

export const useLink = (d: () => string, link: () => string) =>
  view(
    d,
    () => ["link", link()],
    () =>
      data(
        client.GET("/api/designs/{design}/links/{link}", {
          params: { path: { design: d(), link: link() }, query: { side: side() } },
        }),
      ),
    () => link() !== "",
  );

export interface StudyQuestion {
  cloud: string;
  tables: number;
  gb: number;
  regional: boolean;
}

export const useStudy = (d: () => string, q: () => StudyQuestion) =>
  view(
    d,
    () => ["study", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/study", {
          params: { path: { design: d() }, query: { ...q(), side: side() } },
        }),
      ),
    () => q().cloud !== "",
  );

export const useProfiles = (d: () => string) =>
  view(
    d,
    () => ["profiles"],
    () => data(client.GET("/api/designs/{design}/profiles", seen(d()))),
  );

export type Target = "frr" | "keyed" | "networkd" | "zones" | "models" | "device";

export const useHandover = (d: () => string, target: () => Target | "") =>
  view(
    d,
    () => ["handover", target()],
    () =>
      data(
        client.GET("/api/designs/{design}/handover", {
          params: {
            path: { design: d() },
            query: { side: side(), ...(target() ? { target: target() as Target } : {}) },
          },
        }),
      ),
  );

/** The runbook of all work, or of one change alone. */
export const useRunbook = (d: () => string, change: () => string = () => "") =>
  view(
    d,
    () => ["runbook", change()],
    () =>
      data(
        client.GET("/api/designs/{design}/runbook", {
          params: { path: { design: d() }, query: { change: change() || undefined } },
        }),
      ),
  );

/** The order of work of edits that are not made yet. */
export const useTriedRunbook = (d: () => string, edits: () => Edit[], wanted: () => boolean) =>
  view(
    d,
    () => ["runbook", "tried", edits()],
    () =>
      data(client.POST("/api/designs/{design}/runbook/try", { ...inside(d()), body: { edits: edits() } })),
    wanted,
  );

export const useWorkChanges = (d: () => string) =>
  view(
    d,
    () => ["work", "changes"],
    () => data(client.GET("/api/designs/{design}/work/changes", inside(d()))),
  );

/** A change alone: what is built, with it and what it needs. */
export const useAlone = (d: () => string, change: () => string, wanted: () => boolean) =>
  view(
    d,
    () => ["work", "changes", change()],
    () =>
      data(
        client.GET("/api/designs/{design}/work/changes/{change}", {
          params: { path: { design: d(), change: change() } },
        }),
      ),
    wanted,
  );

export const useSearch = (d: () => string, text: () => string) =>
  view(
    d,
    () => ["search", text()],
    () =>
      data(
        client.GET("/api/designs/{design}/search", {
          params: { path: { design: d() }, query: { q: text(), side: side() } },
        }),
      ),
  );

export const useTables = (d: () => string) =>
  view(
    d,
    () => ["tables"],
    () => data(client.GET("/api/designs/{design}/tables", seen(d()))),
  );

export interface TableQuestion {
  at: string;
  segment: string;
  prefix: string;
  how: "touching" | "covering" | "covered" | "exact";
  source: string;
  party: string;
}

/** How many rows of a table come at once. */
export const tablePage = 200;

/** Gets one page of a table. */
export const getTable = (design: string, q: TableQuestion, page: number) =>
  data(
    client.GET("/api/designs/{design}/table", {
      params: {
        path: { design },
        query: {
          at: q.at,
          segment: q.segment || undefined,
          prefix: q.prefix || undefined,
          how: q.how,
          source: q.source || undefined,
          party: q.party || undefined,
          offset: page * tablePage,
          limit: tablePage,
          side: side(),
        },
      },
    }),
  );

export const useTable = (d: () => string, q: () => TableQuestion) =>
  view(
    d,
    () => ["table", q()],
    () => getTable(d(), q(), 0),
    () => q().at !== "",
  );

export const useExplain = (d: () => string, q: () => { at: string; segment: string; for: string }) =>
  view(
    d,
    () => ["explain", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/explain", {
          params: {
            path: { design: d() },
            query: { at: q().at, segment: q().segment || undefined, for: q().for, side: side() },
          },
        }),
      ),
    () => Boolean(q().at && q().for),
  );

/** Prefixes that tables have, to choose from. */
export const findPrefixes = (design: string, q: string) =>
  data(
    client.GET("/api/designs/{design}/prefixes", {
      params: { path: { design }, query: { q, side: side() } },
    }),
  );

export const useSpread = (d: () => string, prefix: () => string) =>
  view(
    d,
    () => ["spread", prefix()],
    () =>
      data(
        client.GET("/api/designs/{design}/spread", {
          params: { path: { design: d() }, query: { prefix: prefix(), side: side() } },
        }),
      ),
    () => prefix() !== "",
  );

export const useSessions = (d: () => string) =>
  view(
    d,
    () => ["sessions"],
    () => data(client.GET("/api/designs/{design}/sessions", seen(d()))),
  );

export const useSession = (d: () => string, session: () => string) =>
  view(
    d,
    () => ["session", session()],
    () =>
      data(
        client.GET("/api/designs/{design}/sessions/{session}", {
          params: { path: { design: d(), session: session() }, query: { side: side() } },
        }),
      ),
    () => session() !== "",
  );

export const useLimits = (d: () => string) =>
  view(
    d,
    () => ["limits"],
    () => data(client.GET("/api/designs/{design}/limits", seen(d()))),
  );

/** Edits as they are said: of what is there while that is looked at, where they do not say it themselves. */
const saidOf = (edits: Edit[]): Edit[] =>
  side() === "built" ? edits.map((e) => (e.side ? e : { ...e, side: "built" as const })) : edits;

/** A change that is not made: edits, something taken away, or an undo or redo. */
export interface Change {
  edits?: Edit[];
  without?: string[];
  act?: "undo" | "redo";
}

export const useRouteEffect = (d: () => string, change: () => Change, wanted: () => boolean) =>
  view(
    d,
    () => ["effect", change()],
    () =>
      data(
        client.POST("/api/designs/{design}/effect", {
          params: { path: { design: d() }, query: { side: side() } },
          body: change(),
        }),
      ),
    wanted,
  );

export interface Saying {
  text: string;
  /** The line that is being typed, up to the cursor. */
  line: string;
  it: string;
}

/** What lines would do, asked once. */
export const hear = (d: string, q: Saying) =>
  data(
    client.POST("/api/designs/{design}/say", {
      params: { path: { design: d }, query: { side: side() } },
      body: q,
    }),
  );

export const useHeard = (d: () => string, q: () => Saying, wanted: () => boolean) =>
  view(
    d,
    () => ["say", q()],
    () => hear(d(), q()),
    wanted,
  );

export interface FormQuestion {
  object?: string;
  kind?: string;
  parent?: string;
  /** What else the form shows, to be named. */
  titled?: string[];
}

export const useForm = (d: () => string, q: () => FormQuestion, wanted: () => boolean) =>
  view(
    d,
    () => ["form", q()],
    () =>
      data(
        client.GET("/api/designs/{design}/form", {
          params: { path: { design: d() }, query: { ...q(), side: side() } },
        }),
      ),
    wanted,
  );

/** Things of some kinds whose name, path or address holds a text. */
export const find = (d: string, text: string, kinds: string[]) =>
  data(
    client.GET("/api/designs/{design}/search", {
      params: { path: { design: d }, query: { q: text, kind: kinds } },
    }),
  );

export const removalOf = (d: string, objects: string[]) =>
  data(
    client.GET("/api/designs/{design}/removal", {
      params: { path: { design: d }, query: { object: objects } },
    }),
  );

export const copiesOf = (
  d: string,
  q: { source: string; name?: string[]; pattern?: string; count?: number },
) => data(client.GET("/api/designs/{design}/copies", { params: { path: { design: d }, query: q } }));

/** Tells the person what went wrong, in the server's words. */
export function complain(error: unknown): void {
  if (error instanceof Refusal && error.problem.status === 409 && error.problem.since?.length) {
    toast.error("Somebody changed this design meanwhile", {
      description: `${error.problem.since.map((c) => c.reason).join("; ")}. Look again, then repeat.`,
    });
    return;
  }
  toast.error(error instanceof Error ? error.message : "Something went wrong");
}

/** The positions of designs that were written from here: nobody else has changed anything there. */
const written = new Map<string, Set<number>>();

/** The last write to each design: writes go one after the other, each from what the one before has left. */
const writing = new Map<string, Promise<unknown>>();

/** How many writes to each design are not answered yet. */
const underWay = new Map<string, number>();

/** Edits, or how to make them once it is their turn, from what is there then. */
export type Edits = Edit[] | (() => Edit[] | Promise<Edit[]>);

/** Writes to a design; every method tells the person if it fails. */
export function writer(queries: QueryClient, design: () => string) {
  /**
   * The position that the person has seen: the oldest of what is on the screen, and what was written from here since.
   * What else has changed is told, never overwritten.
   */
  const base = (): number => {
    const shown = queries
      .getQueryCache()
      .findAll({ queryKey: designKey(design()), type: "active" })
      .map((q) => positionOf(q.state.data))
      .filter((n) => n !== undefined);
    let seen = shown.length ? Math.min(...shown) : -1;
    while (written.get(design())?.has(seen + 1)) seen++;
    return seen;
  };
  const attempt = (write: () => Promise<unknown>, done?: string): Promise<boolean> => {
    const id = design();
    const before = writing.get(id) ?? Promise.resolve();
    underWay.set(id, (underWay.get(id) ?? 0) + 1);
    const now = before
      .then(() => once(write, done))
      .finally(() => underWay.set(id, (underWay.get(id) ?? 1) - 1));
    writing.set(id, now);
    return now;
  };
  const once = async (write: () => Promise<unknown>, done?: string): Promise<boolean> => {
    try {
      const info = await write();
      if (info !== null && typeof info === "object" && "position" in info) {
        const own = written.get(design()) ?? new Set();
        written.set(design(), own.add(Number(info.position)));
      }
      if (done) toast.success(done);
      return true;
    } catch (error) {
      complain(error);
      return false;
    } finally {
      await queries.invalidateQueries({ queryKey: designKey(design()) });
    }
  };
  /** The answer on the screen that offers some edits. */
  const offering = (edits: Edit[]) =>
    queries
      .getQueryCache()
      .findAll({ queryKey: designKey(design()), type: "active" })
      .find((q) => offerOf(edits, q.state.data));
  /**
   * Edits that are at hand are of what the person sees. Where a write before them was answered only afterwards, they are
   * what the same answer offers then under the same words: those of before would take that write back. Other edits
   * are made when it is their turn. What is done as one, such as a plan, is a change of its own.
   */
  const change = (reason: string, edits: Edits, own = false): Promise<boolean> => {
    const seen = base();
    const from = typeof edits !== "function" && underWay.get(design()) ? offering(edits) : undefined;
    const then = from?.state.data;
    return attempt(async () => {
      const now = base();
      let list: Edit[];
      let of = now;
      if (typeof edits === "function") list = await edits();
      else if (from && now !== seen && (positionOf(from.state.data) ?? -1) >= now) {
        const again = offeredAgain(edits, then, from.state.data);
        if (!again) throw new Error(`Not done: ${reason}. It is no longer offered; look again.`);
        list = again;
      } else [list, of] = [edits, seen];
      if (!list.length) return undefined;
      return data(
        client.POST("/api/designs/{design}/changes", {
          ...inside(design()),
          body: {
            base: of,
            reason,
            edits: saidOf(list),
            change: working(design())?.id ?? (own ? "new" : undefined),
          },
        }),
      );
    }, reason);
  };
  /** Says of objects, with what stands in them, or of a change, that they are there as planned, or not there. */
  const saidThere = (
    of: { objects?: string[]; change?: string },
    there: boolean,
    done: string,
  ): Promise<boolean> =>
    attempt(
      () =>
        data(
          client.POST("/api/designs/{design}/built", {
            ...inside(design()),
            body: { base: base(), there, ...of },
          }),
        ),
      done,
    );
  return {
    base,
    attempt,
    change,
    there: saidThere,
    /**
     * Does what was said, as it was heard. Where a write before it was answered only afterwards, it is heard again:
     * what it means may have changed, and one's own write is nobody else's.
     */
    say: (said: Saying, heard: Heard) => {
      const seen = base();
      return change(
        heard.reason || "Say it",
        async () => {
          if (base() === seen) return heard.edits;
          const again = await hear(design(), said);
          const wrong = again.lines.flatMap((l) => l.problems)[0];
          if (!doable(again))
            throw new Error(wrong ? [wrong.why, wrong.want].filter(Boolean).join("; ") : "Nothing to do");
          return again.edits;
        },
        true,
      );
    },
    undo: () =>
      attempt(() =>
        data(client.POST("/api/designs/{design}/undo", { ...inside(design()), body: { base: base() } })),
      ),
    redo: () =>
      attempt(() =>
        data(client.POST("/api/designs/{design}/redo", { ...inside(design()), body: { base: base() } })),
      ),
  };
}
