import { sampled } from "./crossings";
import type { ShownLink } from "./fold";
import { meets, type Box, type Label, type PlacedLink, type PlacedParty } from "./picture";

/** Where along its own line a label may stand, from 0 to 1, the middle first. */
const along = Array.from({ length: 39 }, (_, n) => 0.5 + (n % 2 ? 1 : -1) * Math.ceil(n / 2) * 0.021);
/** With more links than this, only those that have something to say are labelled. */
const many = 120;
const high = 15;
const most = 34;

const cut = (text: string): string => (text.length > most ? `${text.slice(0, most - 1)}…` : text);
/** The first of several lines is in the larger type. */
const wide = (lines: string[]): number =>
  Math.max(...lines.map((text, n) => text.length * (n === 0 && lines.length > 1 ? 6.6 : 5.9))) + 4;

/**
 * Gives each link its words, beside its own line and on no other line, party or words. Where there is no such
 * room one of its lines is tried alone, and then it has none: its line and its title remain.
 */
export function placeLabels(
  links: PlacedLink[],
  parties: PlacedParty[],
  words: (l: ShownLink) => string[],
  top: number,
  banks: Box[],
): void {
  const taken: Box[] = [
    ...banks,
    ...parties.map((x) => ({ x: x.x - 2, y: x.y - 2, w: x.width + 4, h: x.height + 4 })),
  ];
  const lines = links.map((l) => l.tunnels.flatMap((s) => dense(s)));
  const crowd = links.length > many;
  // The worse it stands, the sooner it chooses its place.
  const turn = links.map((_, n) => n).sort((p, q) => urgency(links[p]) - urgency(links[q]));
  for (const n of turn) {
    const link = links[n];
    if (!link || (crowd && urgency(link) === 2)) continue;
    const all = words(link.link).filter(Boolean).map(cut);
    for (const text of all.length > 1 ? [all, all.slice(-1), all.slice(0, 1)] : [all]) {
      if (!text.length) continue;
      const found = free(link, text, taken, lines, links, n, top);
      if (!found) continue;
      link.label = found.label;
      taken.push(found.box);
      break;
    }
  }
}

const urgency = (l: PlacedLink | undefined): number =>
  !l ? 3 : !l.link.status.up ? 0 : l.link.verdict === "differs" || l.link.state !== "ready" ? 1 : 2;

/** Small boxes on a path, near enough to each other that no label slips between. */
function dense(path: string): Box[] {
  return sampled(path, 140).map(([x, y]) => ({ x: x - 1.5, y: y - 1.5, w: 3, h: 3 }));
}

function free(
  link: PlacedLink,
  text: string[],
  taken: Box[],
  lines: Box[][],
  links: PlacedLink[],
  own: number,
  top: number,
): { label: Label; box: Box } | undefined {
  const w = wide(text);
  const h = text.length * high + 2;
  const line = sampled(link.tunnels[0] ?? "", 100);
  const half = ((link.tunnels.length - 1) * 7) / 2;
  for (const t of along) {
    const [x, y] = line[Math.round(t * 100)] ?? [0, 0];
    const beside: [number, number, Label["anchor"]][] = [
      [x, y - half - h - 3, "middle"],
      [x, y + half + 3, "middle"],
      [x + 8, y - h / 2, "start"],
      [x - 8, y - h / 2, "end"],
    ];
    for (const [at, upper, anchor] of beside) {
      const box = { x: anchor === "middle" ? at - w / 2 : anchor === "end" ? at - w : at, y: upper, w, h };
      if (box.y < top - 16) continue;
      if (taken.some((b) => meets(b, box))) continue;
      const near = (n: number) => meets((links[n] as PlacedLink).box, box);
      if (lines.some((list, n) => near(n) && list.some((b) => meets(b, n === own ? shrunk(box) : box))))
        continue;
      return { label: { x: at, y: upper + 11, anchor, lines: text }, box };
    }
  }
  return undefined;
}

/** A label may come a little nearer to its own line than to others. */
const shrunk = (b: Box): Box => ({ x: b.x + 2, y: b.y + 2, w: b.w - 4, h: b.h - 4 });
