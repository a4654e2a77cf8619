import type { PlanOption } from "../api/client";

/** What makes one option better than another, as it is said. */
export const wishes = [
  {
    key: "",
    word: "Least to do",
    title: "Either side can start, callers are told apart, and little is touched",
  },
  { key: "cheapest", word: "Cheapest", title: "What it adds to the bill of a month" },
  { key: "fewest-boxes", word: "Fewest boxes", title: "How many boxes and tables are touched" },
  { key: "next-easy", word: "Next is easy", title: "Steps for the next party, entries for the next service" },
  { key: "surviving", word: "Survives", title: "All that must talk does after any single failure" },
] as const;

/** The ways of joining that can be asked for. */
export const waysOfJoining = [
  { key: "vpn-bgp", word: "VPN with BGP" },
  { key: "vpn-static", word: "VPN with static routes" },
  { key: "vpn-selectors", word: "VPN with policy selectors" },
  { key: "peering", word: "peering" },
  { key: "hub", word: "a hub" },
  { key: "circuit", word: "circuits" },
] as const;

/** What is done in an option, by the party that does it, in the order in which they begin. */
export function byParty(o: PlanOption): { party: string; steps: PlanOption["changes"] }[] {
  const out = new Map<string, PlanOption["changes"]>();
  for (const c of o.changes) {
    const key = c.where || "Everybody";
    out.set(key, [...(out.get(key) ?? []), c]);
  }
  return [...out].map(([party, steps]) => ({ party, steps }));
}
