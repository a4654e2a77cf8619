import type { Estate } from "../api/client";
import type { Folded, Shown, ShownLink } from "./fold";
import { placeLabels } from "./labels";
import { ordered } from "./order";
import { pressing } from "./weights";

/** Where everything stands in the picture of an estate, in pixels. */
export interface Picture {
  width: number;
  height: number;
  parties: PlacedParty[];
  links: PlacedLink[];
  ties: PlacedTie[];
  headings: { text: string; x: number; y: number; anchor: "start" | "end" }[];
}

type Tie = Estate["ties"][number];
export type Bank = "ground" | "middle" | "cloud";

export interface PlacedParty {
  party: Shown;
  x: number;
  y: number;
  width: number;
  height: number;
  /** Sites stand on the ground's bank, networks on the clouds', hubs and edge routers between. */
  bank: Bank;
  rows: { range: Shown["ranges"][number]; y: number; tied: boolean }[];
  /** How many ranges are not drawn for want of room. */
  more: number;
}
export interface PlacedLink {
  link: ShownLink;
  /** One path for each tunnel; a link without any has one, drawn broken. */
  tunnels: string[];
  /** What is written at it; absent where there is no room that is free of other lines. */
  label?: Label;
  /** The middle of the line, for a sign. */
  mid: [number, number];
  box: Box;
}
export interface Label {
  x: number;
  y: number;
  anchor: "start" | "middle" | "end";
  lines: string[];
}
export interface PlacedTie {
  tie: Tie;
  path: string;
  box: Box;
  /** Where a word may stand along its outer side, turned upright; absent where there is no room. */
  word?: { x: number; y: number };
}
export interface Box {
  x: number;
  y: number;
  w: number;
  h: number;
}
export const meets = (a: Box, b: Box): boolean =>
  a.x < b.x + b.w && b.x < a.x + a.w && a.y < b.y + b.h && b.y < a.y + a.h;

/** The box of a party, or of the stack that it is in. */
export const boxOf = (placed: PlacedParty[], id: string): PlacedParty | undefined =>
  placed.find((x) => x.party.id === id || x.party.members.some((m) => m.id === id));

export const partyWidth = 270;
/** The least room between the banks, so that both are in sight beside a sheet. */
const between = 270;
export const bankOf = (x: { kind: string }): Bank =>
  x.kind === "hub" || x.kind === "edge-router" ? "middle" : x.kind === "site" ? "ground" : "cloud";

const margin = 74; // room at the outside for ties
const headHeight = 40;
const rowHeight = 22;
const gap = 26;
const headingHeight = 26;
const top = 44;
const tunnelGap = 7;
/** With more parties than this, ranges without a conflict are folded away. */
const roomy = 40;

/**
 * Draws what is shown. Where it would be higher than tall, ranges without a conflict are folded away. words gives
 * what is written at a link, the line that matters most last.
 */
export function draw(
  shown: Folded,
  width: number,
  selected: string,
  words: (l: ShownLink) => string[] = (l) => [l.name],
  tall = 0,
): Picture {
  const tied = new Set(shown.ties.filter((t) => pressing(t.weight)).flatMap((t) => [t.a, t.b]));
  const columns = ordered(shown.parties, shown.links);
  const few = shown.parties.length <= roomy && (!tall || fullHeight(columns) < tall);
  const at = new Map<string, PlacedParty>();
  const rowAt = new Map<string, { party: PlacedParty; y: number }>();
  const headings: Picture["headings"] = [];
  const place = (list: Shown[], x: number, bank: "ground" | "cloud"): number => {
    let y = top;
    let group = "";
    for (const party of list) {
      if (party.group !== group) {
        group = party.group;
        headings.push({
          text: group,
          x: bank === "ground" ? x : x + partyWidth,
          y: y + 14,
          anchor: bank === "ground" ? "start" : "end",
        });
        y += headingHeight;
      }
      const placed = placedParty(party, x, y, bank, tied, few);
      at.set(party.id, placed);
      for (const row of placed.rows)
        if (!rowAt.has(row.range.id)) rowAt.set(row.range.id, { party: placed, y: row.y + rowHeight / 2 });
      y += placed.height + gap + (party.members.length > 1 ? 6 : 0);
    }
    return y;
  };
  const rightX = Math.max(width - margin - partyWidth, margin + partyWidth + between);
  const banks = Math.max(place(columns.ground, margin, "ground"), place(columns.cloud, rightX, "cloud"));
  const middleWidth = rightX - margin - partyWidth < 600 ? 132 : 168;
  const center = (margin + partyWidth + rightX) / 2;
  const height =
    Math.max(banks, placeMiddle(columns.middle, center, middleWidth, shown.links, at, banks)) + 10;
  const links = placeLinks(shown.links, at);
  placeLabels(links, [...at.values()], words, top, [
    { x: margin + partyWidth, y: 0, w: 8, h: height },
    { x: rightX - 8, y: 0, w: 8, h: height },
  ]);
  return {
    width: rightX + partyWidth + margin,
    height,
    parties: [...at.values()],
    links,
    ties: placeTies(worthDrawing(shown, selected), rowAt),
    headings,
  };
}

/** How high the higher bank would be with every range. */
const fullHeight = (columns: { ground: Shown[]; cloud: Shown[] }): number =>
  Math.max(
    ...[columns.ground, columns.cloud].map((list) =>
      list.reduce((h, x) => h + headHeight + x.ranges.length * rowHeight + 6 + gap, top),
    ),
  );

function placedParty(
  party: Shown,
  x: number,
  y: number,
  bank: Bank,
  tied: Set<string>,
  few: boolean,
): PlacedParty {
  const rows = few ? party.ranges : party.ranges.filter((r) => tied.has(r.id)).slice(0, 3);
  const height = headHeight + rows.length * rowHeight + (rows.length < party.ranges.length ? rowHeight : 6);
  return {
    party,
    x,
    y,
    width: partyWidth,
    height,
    bank,
    rows: rows.map((range, n) => ({ range, y: y + headHeight + n * rowHeight, tied: tied.has(range.id) })),
    more: party.ranges.length - rows.length,
  };
}

/** Puts hubs and edge routers between the banks, each as near as can be to the mean height of what it joins. */
function placeMiddle(
  list: Shown[],
  center: number,
  middleWidth: number,
  links: ShownLink[],
  at: Map<string, PlacedParty>,
  banks: number,
): number {
  const wanted = (x: Shown): number => {
    const ys = links.flatMap((l) => {
      const far = l.a === x.id ? at.get(l.b) : l.b === x.id ? at.get(l.a) : undefined;
      return far ? [far.y + far.height / 2] : [];
    });
    return ys.length ? ys.reduce((s, y) => s + y, 0) / ys.length : banks / 2;
  };
  let free = top;
  const tall = headHeight + 2;
  for (const party of list) {
    const y = Math.max(free, wanted(party) - tall / 2);
    at.set(party.id, {
      party,
      x: center - middleWidth / 2,
      y,
      width: middleWidth,
      height: tall,
      bank: "middle",
      rows: [],
      more: 0,
    });
    free = y + tall + gap * 2;
  }
  return free;
}

function placeLinks(links: ShownLink[], at: Map<string, PlacedParty>): PlacedLink[] {
  const ports = portsOf(links, at);
  const out: PlacedLink[] = [];
  for (const link of links) {
    const [a, b] = [at.get(link.a), at.get(link.b)];
    if (!a || !b) continue;
    const [ya, yb] = [ports.get(`${link.id} a`) ?? a.y, ports.get(`${link.id} b`) ?? b.y];
    const same = a.bank === b.bank;
    const [xa, xb] = [edge(a, b), edge(b, a)];
    const n = Math.min(Math.max(1, link.tunnels), 6);
    const bend = same ? Math.min(150, 56 + Math.abs(ya - yb) * 0.12) : 0;
    const tunnels = Array.from({ length: n }, (_, k) => {
      const shift = (k - (n - 1) / 2) * tunnelGap;
      return curve(xa, ya + shift, xb, yb + shift, same, a.bank !== "cloud", bend + shift);
    });
    const reach = same ? bend + 12 : 0;
    out.push({
      link,
      tunnels,
      mid: same
        ? [xa + (a.bank === "cloud" ? -1 : 1) * bend * 0.75, (ya + yb) / 2]
        : [(xa + xb) / 2, (ya + yb) / 2],
      box: {
        x: Math.min(xa, xb) - reach,
        y: Math.min(ya, yb) - 20,
        w: Math.abs(xa - xb) + 2 * reach,
        h: Math.abs(ya - yb) + 40,
      },
    });
  }
  return out;
}

/** Where each link leaves its parties: in the order of their far ends, so that lines from one party do not cross. */
function portsOf(links: ShownLink[], at: Map<string, PlacedParty>): Map<string, number> {
  const ends = new Map<string, { key: string; side: string; far: number }[]>();
  for (const l of links) {
    const [a, b] = [at.get(l.a), at.get(l.b)];
    if (!a || !b) continue;
    const mid = (x: PlacedParty) => x.y + x.height / 2;
    for (const [x, y, key] of [
      [a, b, `${l.id} a`],
      [b, a, `${l.id} b`],
    ] as const) {
      const side = String(edge(x, y) > x.x);
      const list = ends.get(`${x.party.id} ${side}`) ?? [];
      ends.set(`${x.party.id} ${side}`, [...list, { key, side, far: mid(y) }]);
    }
  }
  const out = new Map<string, number>();
  for (const [id, list] of ends) {
    const x = at.get(id.slice(0, id.lastIndexOf(" "))) as PlacedParty;
    list.sort((p, q) => p.far - q.far);
    const step = Math.min(22, (x.height - 14) / list.length);
    const first =
      x.bank === "middle"
        ? x.y + x.height / 2 - ((list.length - 1) * step) / 2
        : x.y + Math.min(17, step / 2 + 6);
    for (const [n, e] of list.entries()) out.set(e.key, first + n * step);
  }
  return out;
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
  bend: number,
): string {
  if (sameSide) {
    const out = xa + (ground ? 1 : -1) * bend;
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
function worthDrawing(estate: Folded, selected: string): Tie[] {
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
        box: {
          x: Math.min(x, xa) - 16,
          y: Math.min(a.y, b.y),
          w: Math.abs(x - xa) + 32,
          h: Math.abs(a.y - b.y) + 1,
        },
        word: room ? { x: x + (ground ? -7 : 15), y: (a.y + b.y) / 2 } : undefined,
      });
    } else {
      const top = 12 + (n % 3) * 5;
      const [oa, ob] = [ground ? xa - away : xa + away, b.party.bank === "ground" ? xb - away : xb + away];
      out.push({
        tie,
        path: `M${xa},${a.y} H${oa} V${top} H${ob} V${b.y} H${xb}`,
        box: { x: Math.min(oa, ob), y: top, w: Math.abs(oa - ob), h: Math.max(a.y, b.y) - top },
      });
    }
  }
  return out;
}
