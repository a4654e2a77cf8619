import { expect, test } from "@playwright/test";
import type { Estate, LinkLine, LinkRow } from "../../web/src/api/client";
import { rowWord, speed, split, stateWord, twoParties, verdictOf } from "../../web/src/lib/links";
import { draw } from "../../web/src/lib/picture";

const row = (change: Partial<LinkRow>): LinkRow => ({
  id: "l",
  kind: "link",
  name: "l",
  state: "ready",
  verdict: "agrees",
  standing: { up: true },
  differing: 0,
  facts: { a: "", b: "", end_a: "", end_b: "", shape: "", strands: 1, mbps: 0, survives: "", fragile: false, monthly: "0.00", costs: [] },
  ...change,
});

test("what most needs doing is what the list says", () => {
  expect(rowWord(row({ state: "refused", differing: 2 })).word).toBe("refused");
  expect(rowWord(row({ asks: true, differing: 2 })).word).toBe("asks to join");
  expect(rowWord(row({ differing: 1, verdict: "differs" })).word).toBe("1 line differs");
  expect(rowWord(row({ differing: 3, verdict: "differs" })).word).toBe("3 lines differ");
  expect(rowWord(row({ verdict: "beware" })).word).toBe("beware");
  expect(rowWord(row({})).word).toBe("agrees");
  expect(verdictOf("new").word).toBe("new");
  expect(stateWord("waiting-for-the-other-half")).toBe("waiting for the other half");
});

test("speeds are in the unit that people say", () => {
  expect([0, 50, 1000, 1250, 10000].map(speed)).toEqual(["the clouds' own", "50 Mbit/s", "1 Gbit/s", "1.25 Gbit/s", "10 Gbit/s"]);
});

test("lines that need not agree stand apart", () => {
  const line = (key: string, verdict: LinkLine["verdict"]) => ({ key, label: key, values: ["", ""] as [string, string], verdict, mends: [], cells: [false, false] });
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

test.describe("hubs and edge routers in the picture", () => {
  type Party = Estate["parties"][number];
  const party = (id: string, kind: Party["kind"]): Party => ({ id, kind, name: id, where: "", gateways: 1, ranges: [{ id: `${id} r`, kind: "lan", name: "lan", prefix: "10.0.0.0/8" }] });
  const link = (a: string, b: string, kind: Estate["links"][number]["kind"] = "link"): Estate["links"][number] => ({ id: `${a}-${b}`, name: `${a} to ${b}`, a, b, kind, shape: kind, state: "ready", verdict: "agrees", routing: "", strands: 1, up: 1, standing: { up: true } });
  const estate: Estate = {
    parties: [party("s1", "site"), party("s2", "site"), party("n1", "network"), party("n2", "network"), party("hub", "hub"), party("edge", "edge-router")],
    links: [link("s1", "edge", "circuit"), link("edge", "n1", "circuit"), link("hub", "n1", "attachment"), link("hub", "n2", "attachment"), link("n1", "n2", "peering"), link("s2", "n2")],
    ties: [],
  };

  test("they stand between the banks, beside nothing else", () => {
    for (const width of [700, 1280, 2560]) {
      const p = draw(estate, width, "");
      const at = new Map(p.parties.map((x) => [x.party.id, x]));
      for (const id of ["hub", "edge"]) {
        const m = at.get(id)!;
        expect(m.bank).toBe("middle");
        expect(m.x).toBeGreaterThan(at.get("s1")!.x + at.get("s1")!.width);
        expect(m.x + m.width).toBeLessThan(at.get("n1")!.x);
      }
      const [a, b] = [at.get("hub")!, at.get("edge")!].sort((x, y) => x.y - y.y);
      expect(b!.y).toBeGreaterThan(a!.y + a!.height);
      expect(p.links).toHaveLength(estate.links.length);
    }
  });

  test("no words lie on others or on a party where there is room", () => {
    const p = draw(estate, 1600, "");
    const box = (l: (typeof p.links)[number]) => {
      const w = l.link.name.length * 6.9;
      const x = l.anchor === "middle" ? l.labelX - w / 2 : l.anchor === "end" ? l.labelX - w : l.labelX;
      return { x, y: l.labelY - 15, w, h: 26 };
    };
    const meets = (a: ReturnType<typeof box>, b: ReturnType<typeof box>) => a.x < b.x + b.w && b.x < a.x + a.w && a.y < b.y + b.h && b.y < a.y + a.h;
    const boxes = p.links.map(box);
    boxes.forEach((a, n) => boxes.slice(n + 1).forEach((b) => expect(meets(a, b)).toBe(false)));
    for (const a of boxes) for (const x of p.parties) expect(meets(a, { x: x.x, y: x.y, w: x.width, h: x.height })).toBe(false);
  });
});
