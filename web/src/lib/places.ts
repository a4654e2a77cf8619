import { withSide } from "./side";

/** The places of a design, in the order of the work. */
export const places = [
  { key: "1", path: "estate", name: "Estate" },
  { key: "2", path: "overlaps", name: "Overlaps" },
  { key: "3", path: "plan", name: "Plan" },
  { key: "4", path: "links", name: "Links" },
  { key: "5", path: "routes", name: "Routes" },
  { key: "6", path: "ledger", name: "Ledger" },
  { key: "7", path: "proof", name: "Proof" },
  { key: "8", path: "passes", name: "Passes" },
  { key: "9", path: "handover", name: "Handover" },
] as const;

export const placeURL = (design: string, path: string, search: Record<string, string> = {}): string => {
  const query = new URLSearchParams(withSide(search)).toString();
  return `/designs/${design}/${path}${query ? `?${query}` : ""}`;
};
