import type { Claim, Group } from "../api/client";
import { meets, parseRange, type Range } from "./range";

/** A claim with its range as numbers. */
export interface Bar {
  claim: Claim;
  range: Range;
  pool: boolean;
}

/** One line of the ruler: a holder, or a whole party where there are many. */
export interface Row {
  title: string;
  bars: Bar[];
}

/** With more claims in view than this, a row is a party and not a single holder. */
const folded = 120;

export const toBars = (claims: Claim[], pool: boolean): Bar[] =>
  claims.flatMap((claim) => {
    const range = parseRange(claim.prefix);
    return range ? [{ claim, range, pool }] : [];
  });

/** The rows that have something in view, in the order of the claims. */
export function rowsIn(view: Range, bars: Bar[], parties: Map<string, string>): Row[] {
  const inView = bars.filter((b) => meets(b.range, view));
  const byParty = inView.length > folded;
  const rows = new Map<string, Row>();
  for (const b of inView) {
    const key = byParty && b.claim.party ? b.claim.party : b.claim.owner;
    const row = rows.get(key);
    if (row) row.bars.push(b);
    else
      rows.set(key, {
        title: byParty ? (parties.get(b.claim.party) ?? b.claim.title) : b.claim.title,
        bars: [b],
      });
  }
  return [...rows.values()];
}

/** How far into the view a place is; 0 to 1 inside it. Exact enough for a pixel at any zoom. */
export function fraction(view: Range, at: bigint): number {
  const offset = at - view.start;
  if (view.width === 32) return Number(offset) / Number(view.size);
  return Number((offset * 1_000_000n) / view.size) / 1_000_000;
}

/** The pixel columns, of so many, in which a group collides: 1, or 2 for the chosen one. */
export function clashColumns(
  view: Range,
  groups: { group: Group; at: Range }[],
  chosen: string | undefined,
  columns: number,
): Uint8Array {
  const out = new Uint8Array(columns);
  for (const { group, at } of groups) {
    if (group.weight === "answered" || !meets(at, view)) continue;
    const from = Math.max(0, Math.floor(fraction(view, at.start) * columns));
    const to = Math.min(columns, Math.max(from + 2, Math.ceil(fraction(view, at.start + at.size) * columns)));
    const mark = group.key === chosen ? 2 : 1;
    for (let x = from; x < to; x++) if (out[x] !== 2) out[x] = mark;
  }
  return out;
}

/** Where a group hurts: its smallest range. */
export function clashOf(group: Group): { group: Group; at: Range } | undefined {
  let least: Range | undefined;
  for (const c of group.claims) {
    const r = parseRange(c.prefix);
    if (r && (!least || r.size < least.size)) least = r;
  }
  return least && { group, at: least };
}
