import type { Claim, Group } from "../api/client";
import { meets, parseRange, type Range } from "./range";

/** A claim with its range as numbers. What is asked for in every frame is plain. */
export interface Bar {
  claim: Claim;
  range: Range;
  span: Span;
  pool: boolean;
  party: string;
  owner: string;
  text: string;
}

/** A range for quick comparison: IPv4 as plain numbers, which hold it exactly; IPv6 as big ones. */
interface Span {
  range: Range;
  from: number;
  to: number;
}

const spanOf = (range: Range): Span => ({
  range,
  from: Number(range.start),
  to: Number(range.start + range.size),
});

const inSpan = (a: Span, view: Span): boolean =>
  a.range.width === view.range.width &&
  (a.range.width === 32 ? a.from < view.to && view.from < a.to : meets(a.range, view.range));

/** Where a range begins and ends in the view, 0 to 1, cut off at both. */
export function extent(view: Range, b: { span: Span }): [number, number] {
  if (view.width === 32) {
    const [start, size] = [Number(view.start), Number(view.size)];
    return [Math.max(0, (b.span.from - start) / size), Math.min(1, (b.span.to - start) / size)];
  }
  const r = b.span.range;
  return [Math.max(0, fraction(view, r.start)), Math.min(1, fraction(view, r.start + r.size))];
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
    return range
      ? [
          {
            claim,
            range,
            span: spanOf(range),
            pool,
            party: claim.party,
            owner: claim.owner,
            text: claim.prefix,
          },
        ]
      : [];
  });

/** The rows that have something in view, in the order of the claims. */
export function rowsIn(view: Range, bars: Bar[], parties: Map<string, string>): Row[] {
  const span = spanOf(view);
  const inView = bars.filter((b) => inSpan(b.span, span));
  const byParty = inView.length > folded;
  const rows = new Map<string, Row>();
  for (const b of inView) {
    const key = byParty && b.party ? b.party : b.owner;
    const row = rows.get(key);
    if (row) row.bars.push(b);
    else
      rows.set(key, {
        title: byParty ? (parties.get(b.party) ?? b.claim.title) : b.claim.title,
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

/** Where a group hurts: its smallest range. */
export interface Clash {
  key: string;
  span: Span;
}

export function clashOf(group: Group): Clash | undefined {
  if (group.weight === "answered") return undefined;
  let least: Range | undefined;
  for (const c of group.claims) {
    const r = parseRange(c.prefix);
    if (r && (!least || r.size < least.size)) least = r;
  }
  return least && { key: group.key, span: spanOf(least) };
}

/** The pixel columns, of so many, in which a group collides: 1, or 2 for the chosen one. */
export function clashColumns(
  view: Range,
  clashes: Clash[],
  chosen: string | undefined,
  columns: number,
): Uint8Array {
  const out = new Uint8Array(columns);
  const span = spanOf(view);
  for (const c of clashes) {
    if (!inSpan(c.span, span)) continue;
    const [a, z] = extent(view, c);
    const from = Math.floor(a * columns);
    const to = Math.min(columns, Math.max(from + 2, Math.ceil(z * columns)));
    const mark = c.key === chosen ? 2 : 1;
    for (let x = from; x < to; x++) if (out[x] !== 2) out[x] = mark;
  }
  return out;
}
