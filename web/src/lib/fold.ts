import type { Estate } from "../api/client";

export type Party = Estate["parties"][number];
export type Link = Estate["links"][number];
export type Tie = Estate["ties"][number];

/** A party as it is shown: one, or a stack of those that are alike. */
export interface Shown extends Party {
  members: Party[];
  /** Under which heading it stands. */
  group: string;
  worst: Worst;
}
export type Worst = "broken" | "risk" | "well";

export interface ShownLink extends Link {
  /** How many links it stands for. */
  count: number;
}
export interface Folded {
  parties: Shown[];
  links: ShownLink[];
  ties: Tie[];
}

export const groupings = ["", "region", "owner", "segment"] as const;
export type Grouping = (typeof groupings)[number];

export interface How {
  group: Grouping;
  /** Keys of stacks that are open; "all" for every one. */
  open: string[];
  selected: string;
  search: string;
}

/** So many that are alike stand as one. */
const least = 4;
/** So many broken ones are shown one by one; more make a stack of their own. */
const single = 6;

const groupOf = (x: Party, by: Grouping): string => {
  if (by === "region") return x.region || (x.kind === "site" ? "" : x.where);
  if (by === "owner") return x.owner || "nobody's";
  if (by === "segment") return x.segments.join(", ") || "in no segment";
  return "";
};

/** How bad anything at each party is. */
export function worstOf(estate: Estate): Map<string, Worst> {
  const out = new Map<string, Worst>();
  const put = (id: string, w: Worst) => {
    if (out.get(id) !== "broken") out.set(id, w);
  };
  for (const l of estate.links) {
    const w: Worst | undefined = !l.status.up
      ? "broken"
      : l.verdict === "differs" || l.up < l.tunnels
        ? "risk"
        : undefined;
    if (w) for (const end of [l.a, l.b]) put(end, w);
  }
  const holder = new Map(estate.parties.flatMap((x) => x.ranges.map((r) => [r.id, x.id] as const)));
  for (const t of estate.ties) {
    if (t.weight !== "breaks" && t.weight !== "joined") continue;
    for (const end of [t.a, t.b]) put(holder.get(end) ?? end, t.weight === "breaks" ? "broken" : "risk");
  }
  return out;
}

/** What parties of one shape have in common. */
function shapes(estate: Estate, by: Grouping): Map<string, string> {
  const kinds = new Map<string, Set<string>>();
  for (const l of estate.links)
    for (const end of [l.a, l.b]) kinds.set(end, (kinds.get(end) ?? new Set()).add(`${l.kind} ${l.routing}`));
  return new Map(
    estate.parties.map((x) => [
      x.id,
      [x.kind, x.where, x.owner, groupOf(x, by), ...[...(kinds.get(x.id) ?? [])].sort()].join("|"),
    ]),
  );
}

export function fold(estate: Estate, how: How): Folded {
  const worst = worstOf(estate);
  const shape = shapes(estate, how.group);
  const wanted = how.search.trim().toLowerCase();
  const chosen = ends(estate, how.selected);
  const kept = (x: Party): boolean =>
    chosen.has(x.id) || (wanted !== "" && x.name.toLowerCase().includes(wanted));
  const alike = new Map<string, Party[]>();
  for (const x of estate.parties) {
    if (x.kind === "hub" || x.kind === "edge-router" || kept(x)) continue;
    const key = shape.get(x.id) ?? "";
    alike.set(key, [...(alike.get(key) ?? []), x]);
  }
  const into = new Map<string, string>(); // party to its stack
  const stacks = new Map<string, Party[]>();
  for (const [key, all] of alike) {
    const heads = headsOf(estate, all);
    const list = all.filter((x) => !heads.has(x.id));
    const ill = list.filter((x) => worst.get(x.id) === "broken");
    const apart = ill.length > single ? [] : ill;
    for (const [part, members] of [
      [key, list.filter((x) => !ill.includes(x))],
      [`${key}|broken`, ill.filter((x) => !apart.includes(x))],
    ] as const) {
      if (members.length < least || how.open.includes("all") || how.open.includes(stackID(part))) continue;
      stacks.set(stackID(part), members);
      for (const x of members) into.set(x.id, stackID(part));
    }
  }
  return { ...gathered(estate, into, stacks, worst, how.group) };
}

/**
 * Those of parties that are alike to which others of them are joined, as spokes are to the head of a star: with them in
 * one stack none of their links would be seen. Where nearly all are joined with all, nobody is a head.
 */
function headsOf(estate: Estate, alike: Party[]): Set<string> {
  const heads = new Set<string>();
  const among = new Set(alike.map((x) => x.id));
  const inside = estate.links.filter((l) => l.a !== l.b && among.has(l.a) && among.has(l.b));
  for (;;) {
    const count = new Map<string, number>();
    for (const l of inside)
      if (!heads.has(l.a) && !heads.has(l.b))
        for (const end of [l.a, l.b]) count.set(end, (count.get(end) ?? 0) + 1);
    const most = [...count].sort((a, b) => b[1] - a[1] || a[0].localeCompare(b[0]))[0];
    if (!most) return heads;
    if (heads.size === single) return new Set();
    heads.add(most[0]);
  }
}

/** A short name of a stack that stays the same while its members are alike. */
export function stackID(key: string): string {
  let n = 5381;
  for (const c of key) n = ((n * 33) ^ (c.codePointAt(0) ?? 0)) >>> 0;
  return `stack-${n.toString(36)}`;
}

/** Parties that what is selected is, is in, or ends at. */
function ends(estate: Estate, selected: string): Set<string> {
  const out = new Set<string>();
  for (const x of estate.parties)
    if (x.id === selected || x.ranges.some((r) => r.id === selected)) out.add(x.id);
  for (const l of estate.links) {
    if (l.id === selected || out.has(l.a)) out.add(l.a);
    if (l.id === selected) out.add(l.b);
  }
  return out;
}

function gathered(
  estate: Estate,
  into: Map<string, string>,
  stacks: Map<string, Party[]>,
  worst: Map<string, Worst>,
  by: Grouping,
): Folded {
  const shown = new Map<string, Shown>();
  const rangeOf = new Map<string, string>(); // range to the one that stands for it
  for (const x of estate.parties) {
    const id = into.get(x.id);
    if (!id) {
      shown.set(x.id, { ...x, members: [x], group: groupOf(x, by), worst: worst.get(x.id) ?? "well" });
      continue;
    }
    const members = stacks.get(id) ?? [];
    for (const r of x.ranges) rangeOf.set(r.id, `${id} ${r.prefix}`);
    if (!shown.has(id)) shown.set(id, stackOf(id, members, worst, groupOf(x, by)));
  }
  const at = (id: string) => into.get(id) ?? id;
  const links = new Map<string, ShownLink>();
  for (const l of estate.links) {
    const [a, b] = [at(l.a), at(l.b)];
    if (a === b) continue;
    if (a === l.a && b === l.b) {
      links.set(l.id, { ...l, count: 1 });
      continue;
    }
    const key = [a, b, l.kind, l.routing, l.state].join(" ");
    const one = links.get(key);
    if (!one) links.set(key, { ...l, id: key, a, b, count: 1 });
    else {
      one.count++;
      one.name = `${one.count} ${l.kind === "link" ? "links" : `${l.kind}s`}`;
      one.tunnels = Math.max(one.tunnels, l.tunnels);
      one.up = Math.min(one.up, l.up);
      if (!l.status.up) one.status = l.status;
    }
  }
  const ties = new Map<string, Tie>();
  for (const t of estate.ties) {
    const [a, b] = [rangeOf.get(t.a) ?? t.a, rangeOf.get(t.b) ?? t.b];
    if (a !== b && !ties.has(`${a} ${b}`)) ties.set(`${a} ${b}`, { ...t, a, b });
  }
  return { parties: [...shown.values()], links: [...links.values()], ties: [...ties.values()] };
}

function stackOf(id: string, members: Party[], worst: Map<string, Worst>, group: string): Shown {
  const first = members[0] as Party;
  const prefixes = new Map<string, { r: Party["ranges"][number]; n: number }>();
  for (const m of members)
    for (const r of m.ranges) {
      const known = prefixes.get(r.prefix);
      if (known) known.n++;
      else prefixes.set(r.prefix, { r, n: 1 });
    }
  const shared = [...prefixes.values()].filter((x) => x.n > members.length / 2).sort((x, y) => y.n - x.n);
  const marks = members.map((m) => worst.get(m.id) ?? "well");
  return {
    ...first,
    id,
    name: `${members.length} like ${first.name}`,
    members,
    group,
    gateways: members.reduce((s, m) => s + m.gateways, 0),
    ranges: shared
      .slice(0, 3)
      .map(({ r, n }) => ({ ...r, id: `${id} ${r.prefix}`, name: `${n} × ${r.name}` })),
    worst: marks.includes("broken") ? "broken" : marks.includes("risk") ? "risk" : "well",
  };
}

/** What is shown of what a selected thing touches: itself, its links and their far ends; undefined if it is not shown. */
export function touching(shown: Folded, selected: string): Set<string> | undefined {
  const own = shown.parties.find((x) => x.id === selected || x.ranges.some((r) => r.id === selected))?.id;
  const link = shown.links.find((l) => l.id === selected);
  if (!own && !link) return undefined;
  const out = new Set<string>(link ? [link.id, link.a, link.b] : [own ?? ""]);
  for (const l of shown.links)
    if (own && (l.a === own || l.b === own)) for (const id of [l.id, l.a, l.b]) out.add(id);
  return out;
}
