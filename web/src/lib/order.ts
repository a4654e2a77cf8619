import { cross } from "./crossings";
import type { Shown, ShownLink } from "./fold";

export interface Columns {
  ground: Shown[];
  middle: Shown[];
  cloud: Shown[];
}

const column = (x: { kind: string }) =>
  x.kind === "site" ? 0 : x.kind === "hub" || x.kind === "edge-router" ? 1 : 2;

/** With more links than this, neighbours are not exchanged to save crossings: it would take too long. */
const careful = 160;

/**
 * Orders the three columns so that links cross little: each party goes to the mean place of its partners, a few
 * times over, and of these orders the best is taken; then neighbours change places as long as that saves crossings.
 * Parties of one group stay together.
 */
export function ordered(parties: Shown[], links: ShownLink[]): Columns {
  const partners = new Map<string, string[]>();
  for (const l of links) {
    partners.set(l.a, [...(partners.get(l.a) ?? []), l.b]);
    partners.set(l.b, [...(partners.get(l.b) ?? []), l.a]);
  }
  // What is joined comes first, and what collides with each other stays as it was given: side by side.
  const joined = (x: Shown) => Number(partners.has(x.id));
  let now = [0, 1, 2].map((c) =>
    parties.filter((x) => column(x) === c).sort((p, q) => byGroup(p, q) || joined(q) - joined(p)),
  );
  let best = now;
  let least = counted(now, links);
  for (let round = 0; round < 10 && least > 0; round++) {
    const place = spread(now);
    const c = [2, 1, 0, 1][round % 4] ?? 0;
    now = now.map((list, n) => (n === c ? byMean(list, place, partners) : list));
    const n = counted(now, links);
    if (n < least) [best, least] = [now, n];
  }
  if (links.length <= careful) best = exchanged(best, links, least);
  return { ground: best[0] ?? [], middle: best[1] ?? [], cloud: best[2] ?? [] };
}

const byGroup = (p: Shown, q: Shown) => p.group.localeCompare(q.group);

/** Each column over the same height, so that places in different ones can be compared. */
function spread(columns: Shown[][]): Map<string, number> {
  const out = new Map<string, number>();
  for (const list of columns)
    for (const [n, x] of list.entries()) out.set(x.id, (n + 0.5) / Math.max(1, list.length));
  return out;
}

function byMean(list: Shown[], place: Map<string, number>, partners: Map<string, string[]>): Shown[] {
  const key = new Map(
    list.map((x) => {
      const known = (partners.get(x.id) ?? []).map((id) => place.get(id)).filter((n) => n !== undefined);
      return [
        x.id,
        known.length ? known.reduce((s, n) => s + n, 0) / known.length : 2 + (place.get(x.id) ?? 0),
      ] as const;
    }),
  );
  return list.toSorted((p, q) => byGroup(p, q) || (key.get(p.id) ?? 0) - (key.get(q.id) ?? 0));
}

/** Crossings of straight lines between the columns: what curves between them come to, and quick. */
function counted(columns: Shown[][], links: ShownLink[]): number {
  const place = spread(columns);
  const where = new Map(columns.flatMap((list, c) => list.map((x) => [x.id, c] as const)));
  const lines = links.flatMap((l) => {
    const [a, b] = [where.get(l.a), where.get(l.b)];
    if (a === undefined || b === undefined || a === b) return [];
    const ends = [
      [a, place.get(l.a) ?? 0],
      [b, place.get(l.b) ?? 0],
    ] as [[number, number], [number, number]];
    return [ends];
  });
  let n = 0;
  for (let i = 0; i < lines.length; i++)
    for (let j = i + 1; j < lines.length; j++) {
      const [p, q] = [lines[i], lines[j]];
      if (p && q && cross(p[0], p[1], q[0], q[1])) n++;
    }
  return n;
}

function exchanged(columns: Shown[][], links: ShownLink[], least: number): Shown[][] {
  let best = columns;
  for (let round = 0; round < 6 && least > 0; round++) {
    const before = least;
    for (let c = 0; c < 3; c++)
      for (let n = 1; n < (best[c]?.length ?? 0); n++) {
        const [p, q] = [best[c]?.[n - 1], best[c]?.[n]];
        if (!p || !q || p.group !== q.group) continue;
        const tried = best.map((list, k) => (k === c ? list.with(n - 1, q).with(n, p) : list));
        const now = counted(tried, links);
        if (now < least) [best, least] = [tried, now];
      }
    if (least === before) break;
  }
  return best;
}
