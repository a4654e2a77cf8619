import type { Routing } from "../api/client";
import type { ShownLink } from "./fold";
import { statusMark, stateWord } from "./links";

const tunnelWords = (l: ShownLink): string =>
  l.tunnels === 0
    ? "no tunnel"
    : l.up < l.tunnels
      ? `${l.up} of ${l.tunnels} tunnels up`
      : l.tunnels === 1
        ? "1 tunnel"
        : `${l.tunnels} tunnels`;

export const isDown = (l: ShownLink): boolean => !l.status.up;

/** How a link stands that is not as it should be, in a few words; empty if all is well. */
export function trouble(l: ShownLink): string {
  const mark = statusMark(l.status);
  if (isDown(l)) return `${mark.sign} ${mark.word}`;
  return l.verdict === "differs" ? "≠ ends differ" : "";
}

const routings: Record<Routing, string> = { static: "route-based", selectors: "policy-based", bgp: "BGP" };

/** What is written at a link: its name, and what it is and how it stands. Attachments only say what is not usual. */
export function linkWords(l: ShownLink): string[] {
  const state = l.state === "ready" || isDown(l) ? "" : stateWord(l.state);
  const join = (...words: (string | undefined)[]) => words.filter(Boolean).join(", ");
  if (l.kind === "attachment") return [join(l.count > 1 ? l.name : "", state, trouble(l))];
  if (l.kind !== "link") return [l.name, join(l.shape, state, trouble(l))];
  return [l.name, join(tunnelWords(l), routings[l.routing as Routing], state, trouble(l))];
}

export const lineTone = (l: ShownLink): string =>
  isDown(l)
    ? statusMark(l.status).tone === "text-warn"
      ? "stroke-warn"
      : "stroke-clash"
    : l.verdict === "differs"
      ? "stroke-warn"
      : "stroke-link";

export const lineDash = (l: ShownLink): string | undefined => {
  if (isDown(l)) return "2 6";
  if (l.state !== "ready") return "5 5";
  return l.routing === "selectors" ? "11 3" : undefined;
};

const weights: Partial<Record<ShownLink["kind"], number>> = { circuit: 6, peering: 4.5, attachment: 1.3 };
export const lineWeight = (l: ShownLink): number => weights[l.kind] ?? 1.8;
