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
  width: number;
  height: number;
  /** Sites stand on the ground's bank, networks on the clouds', hubs and edge routers between. */
  bank: "ground" | "middle" | "cloud";
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
/** The least room between the banks: with and without something standing there. */
const crowded = 480;
const open = 220;
const isMiddle = (x: Party) => x.kind === "hub" || x.kind === "edge-router";

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
    estate.parties.filter((x) => x.kind !== "site" && !isMiddle(x)),
    estate.links,
  );
  const at = new Map<string, PlacedParty>();
  const rowAt = new Map<string, { party: PlacedParty; y: number }>();
  const place = (list: Party[], x: number, bank: "ground" | "cloud"): number => {
    let y = top;
    for (const party of list) {
      const shown = fold ? party.ranges.filter((r) => tied.has(r.id)).slice(0, 3) : party.ranges;
      const height =
        headHeight + shown.length * rowHeight + (shown.length < party.ranges.length ? rowHeight : 6);
      const placed: PlacedParty = {
        party,
        x,
        y,
        width: partyWidth,
        height,
        bank,
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
  const middle = estate.parties.filter(isMiddle);
  const rightX = Math.max(
    width - margin - partyWidth,
    margin + partyWidth + (middle.length ? crowded : open),
  );
  const banks = Math.max(place(left, margin, "ground"), place(right, rightX, "cloud"));
  const middleWidth = rightX - margin - partyWidth < 450 ? 128 : 168;
  const center = (margin + partyWidth + rightX) / 2;
  const height = Math.max(banks, placeMiddle(middle, center, middleWidth, estate.links, at)) + 10;
  return {
    width: rightX + partyWidth + margin,
    height,
    parties: [...at.values()],
    links: placeLinks(estate.links, at),
    ties: placeTies(worthDrawing(estate, selected), rowAt),
  };
}

/** Puts hubs and edge routers between the banks, each at the mean height of what it joins. */
function placeMiddle(
  list: Party[],
  center: number,
  middleWidth: number,
  links: Link[],
  at: Map<string, PlacedParty>,
): number {
  const wanted = (x: Party): number => {
    const ys = links.flatMap((l) => {
      const far = l.a === x.id ? at.get(l.b) : l.b === x.id ? at.get(l.a) : undefined;
      return far ? [far.y + far.height / 2] : [];
    });
    return ys.length ? ys.reduce((s, y) => s + y, 0) / ys.length : top;
  };
  const placed = list.map((party) => ({ party, y: wanted(party) })).sort((a, b) => a.y - b.y);
  let free = top;
  const tall = headHeight + 2;
  for (const { party, y } of placed) {
    const from = Math.max(free, y - tall / 2);
    at.set(party.id, {
      party,
      x: center - middleWidth / 2,
      y: from,
      width: middleWidth,
      height: tall,
      bank: "middle",
      rows: [],
      more: 0,
    });
    free = from + tall + gap * 2;
  }
  return free;
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
    return x.y + 12 + ((n * (x.bank === "middle" ? 9 : 22)) % Math.max(22, x.height - 24));
  };
  const out: PlacedLink[] = [];
  const taken: Box[] = [...at.values()].map((x) => ({ x: x.x, y: x.y, w: x.width, h: x.height }));
  const drawn: {
    place: PlacedLink;
    from: [number, number];
    to: [number, number];
    same: boolean;
    cloud: boolean;
  }[] = [];
  for (const link of links) {
    const [a, b] = [at.get(link.a), at.get(link.b)];
    if (!a || !b) continue;
    const [ya, yb] = [port(a), port(b)];
    const same = a.bank === b.bank;
    const [xa, xb] = [edge(a, b), edge(b, a)];
    const n = Math.max(1, link.strands);
    const strands = Array.from({ length: n }, (_, k) => {
      const shift = (k - (n - 1) / 2) * strandGap;
      return curve(xa, ya + shift, xb, yb + shift, same, a.bank !== "cloud", shift);
    });
    const place: PlacedLink = { link, strands, labelX: 0, labelY: 0, anchor: "middle" };
    out.push(place);
    drawn.push({ place, from: [xa, ya], to: [xb, yb], same, cloud: a.bank === "cloud" });
  }
  // Words go where least is in their way, the lines of others included; with very many, only the parties.
  const samples =
    drawn.length > 150 ? [] : drawn.map((x) => along.map((t) => spot(x.from, x.to, x.same, x.cloud, t)));
  for (const [n, x] of drawn.entries()) {
    const others = samples.flatMap((list, k) => (k === n ? [] : list));
    Object.assign(
      x.place,
      labelAt(
        ...x.from,
        ...x.to,
        x.same,
        x.cloud,
        Math.max(1, x.place.link.strands),
        x.place.link,
        taken,
        others,
      ),
    );
  }
  return out;
}

/** Where along a link's curve something may stand, from 0 to 1, the middle first. */
const along = [0.5, 0.38, 0.62, 0.27, 0.73, 0.18, 0.82, 0.1, 0.9];

/** A small box on a link's curve. */
function spot(from: [number, number], to: [number, number], same: boolean, cloud: boolean, t: number): Box {
  const u = 1 - t;
  const bend = same ? from[0] + (cloud ? -92 : 92) : (from[0] + to[0]) / 2;
  const x = u ** 3 * from[0] + 3 * t * u * bend + t ** 3 * to[0];
  const y = (u ** 3 + 3 * u * u * t) * from[1] + (t ** 3 + 3 * t * t * u) * to[1];
  return { x: x - 4, y: y - 4, w: 8, h: 8 };
}

interface Box {
  x: number;
  y: number;
  w: number;
  h: number;
}
const meets = (a: Box, b: Box) => a.x < b.x + b.w && b.x < a.x + a.w && a.y < b.y + b.h && b.y < a.y + a.h;

/** A place for a link's words: along its curve, where no party and no other words are, or its middle. */
function labelAt(
  xa: number,
  ya: number,
  xb: number,
  yb: number,
  sameSide: boolean,
  cloud: boolean,
  strands: number,
  link: Link,
  taken: Box[],
  lines: Box[],
): Pick<PlacedLink, "labelX" | "labelY" | "anchor"> {
  const wide = Math.min(link.name.length, 34) * 6.9 + 10;
  const bend = cloud ? -1 : 1;
  const places = [0, -34, 40, -70, 76]
    .flatMap((off) => along.map((t) => [t, off] as const))
    .map(([t, off]) => {
      if (sameSide)
        return {
          labelX: xa + bend * 84,
          labelY: ya + (yb - ya) * t + off,
          anchor: (cloud ? "end" : "start") as "end" | "start",
        };
      // The curve's own height at t, its control points being level with its ends.
      const u = 1 - t;
      return {
        labelX: u ** 3 * xa + 3 * t * u * ((xa + xb) / 2) + t ** 3 * xb,
        labelY:
          (u ** 3 + 3 * u * u * t) * ya +
          (t ** 3 + 3 * t * t * u) * yb -
          14 -
          (strands * strandGap) / 2 +
          off,
        anchor: "middle" as const,
      };
    });
  const box = (p: (typeof places)[number]): Box => ({
    x: p.anchor === "middle" ? p.labelX - wide / 2 : p.anchor === "end" ? p.labelX - wide : p.labelX,
    y: p.labelY - 17,
    w: wide,
    h: 30,
  });
  // Words on words or on a party can not be read; a line through them is only ugly.
  const cost = (p: (typeof places)[number]): number =>
    (p.labelY < top - 18 ? 20 : 0) +
    20 * taken.filter((t) => meets(t, box(p))).length +
    lines.filter((t) => meets(t, box(p))).length;
  let found = { labelX: xa, labelY: ya, anchor: "middle" as "start" | "middle" | "end" };
  let least = Infinity;
  for (const p of places) {
    const c = cost(p);
    if (c < least) [found, least] = [p, c];
    if (least === 0) break;
  }
  taken.push(box(found));
  return found;
}

/** The side of a party that faces another. */
function edge(x: PlacedParty, toward: PlacedParty): number {
  const right = x.bank === "ground" || (x.bank === "middle" && toward.bank !== "ground");
  return right ? x.x + x.width : x.x;
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
    const outer = (x: PlacedParty) => (x.bank === "ground" ? x.x : x.x + x.width);
    const ground = a.party.bank === "ground";
    const [xa, xb] = [outer(a.party), outer(b.party)];
    const away = lane(ground, Math.min(a.y, b.y), Math.max(a.y, b.y));
    if (a.party.bank === b.party.bank) {
      const x = ground ? xa - away : xa + away;
      const room = Math.abs(a.y - b.y) > 64;
      out.push({
        tie,
        path: `M${xa},${a.y} H${x} V${b.y} H${xb}`,
        word: room ? { x: x + (ground ? -7 : 15), y: (a.y + b.y) / 2 } : undefined,
      });
    } else {
      const top = 12 + (n % 3) * 5;
      const [oa, ob] = [ground ? xa - away : xa + away, b.party.bank === "ground" ? xb - away : xb + away];
      out.push({ tie, path: `M${xa},${a.y} H${oa} V${top} H${ob} V${b.y} H${xb}` });
    }
  }
  return out;
}
