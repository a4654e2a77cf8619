/** What stands at the top level, in the order in which one draws an estate. */
export const topKinds = [
  "site",
  "network",
  "hub",
  "edge-router",
  "outside",
  "segment",
  "owner",
  "reservation",
  "intent",
  "link",
  "circuit",
  "peering",
  "mapping",
  "request",
] as const;
