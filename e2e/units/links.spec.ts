import { expect, test } from "@playwright/test";
import type { LinkLine, LinkRow } from "../../web/src/api/client";
import { rowWord, speed, split, stateWord, twoParties, verdictOf } from "../../web/src/lib/links";

const row = (change: Partial<LinkRow>): LinkRow => ({
  id: "l",
  kind: "link",
  name: "l",
  state: "ready",
  verdict: "agrees",
  status: { up: true },
  differing: 0,
  facts: { a: "", b: "", end_a: "", end_b: "", shape: "", tunnels: 1, mbps: 0, survives: "", fragile: false, monthly: "0.00", costs: [] },
  ...change,
});

test("what most needs doing is what the list says", () => {
  expect(rowWord(row({ state: "refused", differing: 2 })).word).toBe("refused");
  expect(rowWord(row({ asks: true, differing: 2 })).word).toBe("asks to join");
  expect(rowWord(row({ differing: 1, verdict: "differs" })).word).toBe("1 line differs");
  expect(rowWord(row({ differing: 3, verdict: "differs" })).word).toBe("3 lines differ");
  expect(rowWord(row({ verdict: "beware" })).word).toBe("beware");
  expect(rowWord(row({})).word).toBe("agrees");
  expect(verdictOf("beware").word).toBe("beware");
  expect(stateWord("waiting-for-the-other-half")).toBe("waiting for the other half");
});

test("speeds are in the unit that people say", () => {
  expect([0, 50, 1000, 1250, 10000].map(speed)).toEqual(["the clouds' own", "50 Mbit/s", "1 Gbit/s", "1.25 Gbit/s", "10 Gbit/s"]);
});

test("lines that need not agree stand apart", () => {
  const line = (key: string, verdict: LinkLine["verdict"]) => ({ key, label: key, values: ["", ""] as [string, string], verdict, fixes: [], cells: [false, false] });
  const { must, free } = split([line("a", "agrees"), line("b", "free"), line("c", "beware"), line("d", "unknown")]);
  expect(must.map((l) => l.key)).toEqual(["a", "c", "d"]);
  expect(free.map((l) => l.key)).toEqual(["b"]);
});

test("two parties are understood from what is typed", () => {
  const parties = ["Marrow Hill", "Saltmarsh Station", "catalogue", "hill garden"].map((name) => ({ kind: "site", name }));
  const said = (text: string) => twoParties(text, [...parties, { kind: "outside", name: "Hill Herbarium" }]).map(([a, b]) => `${a.name} - ${b.name}`);
  expect(said("saltmarsh to cat")).toEqual(["Saltmarsh Station - catalogue"]);
  expect(said("draft hill with catalogue")).toEqual(["Marrow Hill - catalogue", "hill garden - catalogue"]);
  expect(said("catalogue to catalogue")).toEqual([]);
  expect(said("catalogue")).toEqual([]);
  expect(said("herbarium to catalogue")).toEqual([]);
});
