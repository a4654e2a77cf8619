import type { Estate } from "../api/client";

/** Where everything stands in the picture of an estate, in pixels. */
export interface Picture {
  width: number;
  height: number;
  parties: PlacedParty[];
  links: PlacedLink[];
  ties: PlacedTie[];
}

type Party = Estate["parties"][number];
type Link = Estate["links"][number];
type Tie = Estate["ties"][number];

export interface PlacedParty {
  party: Party;
  x: number;
  y: number;
  height: number;
  ground: boolean;
  rows: { range: Party["ranges"][number]; y: number; tied: boolean }[];
  /** How many ranges are not drawn for want of room. */
  more: number;
}
export interface PlacedLink {
  link: Link;
  /** One path for each strand; a link without any has one, drawn broken. */
  strands: string[];
  labelX: number;
  labelY: number;
  anchor: "start" | "middle" | "end";
}
export interface PlacedTie {
  tie: Tie;
  path: string;
  /** Where a word may stand along its outer side, turned upright; absent where there is no room. */
  word?: { x: number; y: number };
}

export const partyWidth = 270;
const margin = 74; // room at the outside for ties
const headHeight = 40;
const rowHeight = 22;
const gap = 26;
const top = 44;
const strandGap = 7;
/** With more parties than this, ranges without a conflict are folded away. */
const roomy = 40;

export function draw(estate: Estate, width: number, selected: string): Picture {
  const tied = new Set(estate.ties.filter((t) => t.weight !== "answered").flatMap((t) => [t.a, t.b]));
  const fold = estate.parties.length > roomy;
  const [left, right] = order(
    estate.parties.filter((x) => x.kind === "site"),
    estate.parties.filter((x) => x.kind !== "site"),
    estate.links,
  );
  const at = new Map<string, PlacedParty>();
  const rowAt = new Map<string, { party: PlacedParty; y: number }>();
  const place = (list: Party[], x: number, ground: boolean): number => {
    let y = top;
    for (const party of list) {
      const shown = fold ? party.ranges.filter((r) => tied.has(r.id)).slice(0, 3) : party.ranges;
      const height =
        headHeight + shown.length * rowHeight + (shown.length < party.ranges.length ? rowHeight : 6);
      const placed: PlacedParty = {
        party,
        x,
        y,
        height,
        ground,
        rows: shown.map((range, n) => ({
          range,
          y: y + headHeight + n * rowHeight,
          tied: tied.has(range.id),
        })),
        more: party.ranges.length - shown.length,
      };
      at.set(party.id, placed);
      for (const row of placed.rows)
        if (!rowAt.has(row.range.id)) rowAt.set(row.range.id, { party: placed, y: row.y + rowHeight / 2 });
      y += height + gap;
    }
    return y;
  };
  const rightX = Math.max(width - margin - partyWidth, margin + partyWidth + 220);
  const height = Math.max(place(left, margin, true), place(right, rightX, false)) + 10;
  return {
    width: rightX + partyWidth + margin,
    height,
    parties: [...at.values()],
    links: placeLinks(estate.links, at),
    ties: placeTies(worthDrawing(estate, selected), rowAt),
  };
}

/** Orders both banks so that links cross little: each party goes to the mean place of its partners, a few times over. */
function order(left: Party[], right: Party[], links: Link[]): [Party[], Party[]] {
  const partners = new Map<string, string[]>();
  for (const l of links) {
    partners.set(l.a, [...(partners.get(l.a) ?? []), l.b]);
    partners.set(l.b, [...(partners.get(l.b) ?? []), l.a]);
  }
  const linked = (list: Party[]) => [
    ...list.filter((x) => partners.has(x.id)),
    ...list.filter((x) => !partners.has(x.id)),
  ];
  let [a, b] = [linked(left), linked(right)];
  for (let round = 0; round < 4; round++) {
    b = byMean(b, a, partners);
    a = byMean(a, [...b, ...a], partners);
  }
  return [a, b];
}

function byMean(list: Party[], fixed: Party[], partners: Map<string, string[]>): Party[] {
  const place = new Map(fixed.map((x, n) => [x.id, n]));
  const mean = (x: Party, own: number) => {
    const known = (partners.get(x.id) ?? []).map((id) => place.get(id)).filter((n) => n !== undefined);
    return known.length ? known.reduce((s, n) => s + n, 0) / known.length : own;
  };
  return list
    .map((x, n) => ({ x, key: mean(x, n), n }))
    .sort((p, q) => Number(partners.has(q.x.id)) - Number(partners.has(p.x.id)) || p.key - q.key || p.n - q.n)
    .map(({ x }) => x);
}

function placeLinks(links: Link[], at: Map<string, PlacedParty>): PlacedLink[] {
  const ends = new Map<string, number>();
  /** The next free height at a party, so that links do not lie on each other. */
  const port = (x: PlacedParty): number => {
    const n = ends.get(x.party.id) ?? 0;
    ends.set(x.party.id, n + 1);
    return x.y + 16 + ((n * 22) % Math.max(22, x.height - 24));
  };
  const out: PlacedLink[] = [];
  for (const link of links) {
    const [a, b] = [at.get(link.a), at.get(link.b)];
    if (!a || !b) continue;
    const [ya, yb] = [port(a), port(b)];
    const inner = (x: PlacedParty) => (x.ground ? x.x + partyWidth : x.x);
    const [xa, xb] = [inner(a), inner(b)];
    const n = Math.max(1, link.strands);
    const strands = Array.from({ length: n }, (_, k) => {
      const shift = (k - (n - 1) / 2) * strandGap;
      return curve(xa, ya + shift, xb, yb + shift, a.ground === b.ground, a.ground, shift);
    });
    const bend = a.ground ? 1 : -1;
    const sameSide = a.ground === b.ground;
    out.push({
      link,
      strands,
      labelX: sameSide ? xa + bend * 78 : (xa + xb) / 2,
      labelY: sameSide ? (ya + yb) / 2 : (ya + yb) / 2 - 14 - (n * strandGap) / 2,
      anchor: sameSide ? (a.ground ? "start" : "end") : "middle",
    });
  }
  return out;
}

function curve(
  xa: number,
  ya: number,
  xb: number,
  yb: number,
  sameSide: boolean,
  ground: boolean,
  shift: number,
): string {
  if (sameSide) {
    const out = xa + (ground ? 1 : -1) * (92 + shift);
    return `M${xa},${ya} C${out},${ya} ${out},${yb} ${xb},${yb}`;
  }
  const mid = (xa + xb) / 2;
  return `M${xa},${ya} C${mid},${ya} ${mid},${yb} ${xb},${yb}`;
}

/** How many ties fit beside each other at a bank's outside. */
const laneCount = 5;

/** More ties than this can not be followed by eye. */
const many = 30;

/** All ties, or where they are many, those that break something and those of what is selected; the hatch shows the others. */
function worthDrawing(estate: Estate, selected: string): Tie[] {
  if (estate.ties.length <= many) return estate.ties;
  const own = new Set(estate.parties.find((x) => x.id === selected)?.ranges.map((r) => r.id) ?? [selected]);
  return estate.ties.filter(
    (t) => t.weight === "breaks" || t.weight === "joined" || own.has(t.a) || own.has(t.b),
  );
}

function placeTies(ties: Tie[], rowAt: Map<string, { party: PlacedParty; y: number }>): PlacedTie[] {
  const out: PlacedTie[] = [];
  // Ties run in lanes; one takes the innermost lane that is free along its way.
  const lanes: Record<"ground" | "cloud", number[]> = { ground: [], cloud: [] };
  const lane = (ground: boolean, from: number, to: number): number => {
    const taken = lanes[ground ? "ground" : "cloud"];
    let n = taken.findIndex((end) => end < from - 4);
    if (n < 0) n = taken.length;
    taken[n] = to;
    return 22 + (n % laneCount) * 11;
  };
  const placed = ties
    .flatMap((tie) => {
      const [a, b] = [rowAt.get(tie.a), rowAt.get(tie.b)];
      return a && b ? [{ tie, a, b }] : [];
    })
    .sort((p, q) => Math.min(p.a.y, p.b.y) - Math.min(q.a.y, q.b.y));
  for (const [n, { tie, a, b }] of placed.entries()) {
    const outer = (x: PlacedParty) => (x.ground ? x.x : x.x + partyWidth);
    const [xa, xb] = [outer(a.party), outer(b.party)];
    const away = lane(a.party.ground, Math.min(a.y, b.y), Math.max(a.y, b.y));
    if (a.party.ground === b.party.ground) {
      const x = a.party.ground ? xa - away : xa + away;
      const room = Math.abs(a.y - b.y) > 64;
      out.push({
        tie,
        path: `M${xa},${a.y} H${x} V${b.y} H${xb}`,
        word: room ? { x: x + (a.party.ground ? -7 : 15), y: (a.y + b.y) / 2 } : undefined,
      });
    } else {
      const top = 12 + (n % 3) * 5;
      const [oa, ob] = [a.party.ground ? xa - away : xa + away, b.party.ground ? xb - away : xb + away];
      out.push({ tie, path: `M${xa},${a.y} H${oa} V${top} H${ob} V${b.y} H${xb}` });
    }
  }
  return out;
}
