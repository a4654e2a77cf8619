import type { Explanation, Spread, TableEntry } from "../api/client";

/** A path of ASNs as people write it. */
export const pathWords = (path: number[] | undefined): string => path?.join(" ") ?? "";

/** What else a learned route carries, in words; empty if nothing of note. */
export function attributes(r: TableEntry): string {
  const l = r.learned;
  if (!l) return "";
  return [
    l.local_pref !== 100 ? `local preference ${l.local_pref}` : "",
    l.med ? `MED ${l.med}` : "",
    l.origin !== "IGP" ? `origin ${l.origin}` : "",
    ...l.communities,
  ]
    .filter(Boolean)
    .join(", ");
}

/** Why it is what the table uses, in short. */
export function statusOf(r: TableEntry): string {
  if (r.unusable) return r.unusable;
  if (r.learned && r.learned.rivals > 0) return `the best of ${r.learned.rivals + 1} (${r.learned.by})`;
  return "";
}

/** The key of a table in the URL: what it is of, and the segment of a routing instance. */
export const tableKey = (at: string, segment = ""): string => (segment ? `${at}~${segment}` : at);
export const readKey = (key: string): { at: string; segment: string } => {
  const [at = "", segment = ""] = key.split("~");
  return { at, segment };
};

/** What became of a prefix at one party: the worst of its tables is told first. */
export interface Mark {
  party: string;
  word: "originated" | "has it" | "stopped";
}

/** One step of a prefix from party to party. */
export interface Step {
  from: string;
  to: string;
  stopped: boolean;
  why: string;
}

/** What became of a prefix, party by party, to be drawn. partyOf tells whose a table or box is. */
export function drawn(s: Spread, partyOf: (id: string) => string): { marks: Mark[]; steps: Step[] } {
  const marks = new Map<string, Mark["word"]>();
  const steps = new Map<string, Step>();
  const add = (step: Step) => {
    if (!step.from || !step.to || step.from === step.to) return;
    const key = `${step.from} ${step.to}`;
    const old = steps.get(key);
    if (!old || (old.stopped && !step.stopped)) steps.set(key, step);
  };
  for (const h of s.has) {
    const originated = !h.from && ["local", "connected", "inner router"].includes(h.route.source);
    if (originated || !marks.has(h.party))
      marks.set(h.party, originated ? "originated" : (marks.get(h.party) ?? "has it"));
    add({ from: partyOf(h.from ?? ""), to: h.party, stopped: false, why: h.route.via });
  }
  for (const h of s.halts) {
    const to = partyOf(h.to);
    if (to && !marks.has(to)) marks.set(to, "stopped");
    add({ from: partyOf(h.from), to, stopped: true, why: h.why });
  }
  return { marks: [...marks].map(([party, word]) => ({ party, word })), steps: [...steps.values()] };
}

/** The way of an entry in one line. */
export const wayWords = (e: Explanation): string => e.way.map((x) => x.title).join(" → ");
