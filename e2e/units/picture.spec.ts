import { expect, test } from "@playwright/test";
import type { Estate } from "../../web/src/api/client";
import { between, crossings, sampled } from "../../web/src/lib/crossings";
import { fold, touching, type How } from "../../web/src/lib/fold";
import { linkWords } from "../../web/src/lib/linkwords";
import { draw, meets, type Picture } from "../../web/src/lib/picture";

type Party = Estate["parties"][number];
type Link = Estate["links"][number];

const party = (id: string, kind: Party["kind"], ranges: string[] = []): Party => ({
  id,
  kind,
  name: id,
  where: kind === "network" ? "Tarn, tarn-north" : "",
  region: "",
  owner: "",
  segments: [],
  gateways: 1,
  ranges: ranges.map((prefix) => ({ id: `${id} ${prefix}`, kind: "lan" as const, name: "lan", prefix })),
});
const link = (a: string, b: string, tunnels = 1): Link => ({ id: `${a}-${b}`, name: `${a} to ${b}`, a, b, kind: "link", shape: "VPN", state: "ready", verdict: "agrees", routing: "static", tunnels, up: tunnels, status: { up: true } });
const open: How = { group: "", open: ["all"], selected: "", search: "" };
const drawn = (e: Estate, how: Partial<How> = {}): Picture => draw(fold(e, { ...open, ...how }), 1200, "", linkWords);

/** A made-up estate: sites and networks, some hubs between, links at random. */
function made(seed: number, sites: number, networks: number, hubs: number, links: number): Estate {
  let now = seed;
  const random = (n: number) => (now = (now * 1103515245 + 12345) % 2147483648) % n;
  const parties = [
    ...Array.from({ length: sites }, (_, n) => party(`s${n}`, "site", [`10.212.${n}.0/24`])),
    ...Array.from({ length: networks }, (_, n) => party(`n${n}`, "network", [`10.208.${n}.0/24`])),
    ...Array.from({ length: hubs }, (_, n) => party(`h${n}`, "hub")),
  ];
  const joined = new Map<string, Link>();
  while (joined.size < links) {
    const [a, b] = [parties[random(parties.length)]!, parties[random(parties.length)]!];
    if (a.kind !== b.kind) joined.set(`${a.id} ${b.id}`, link(a.id, b.id));
  }
  return { parties, links: [...joined.values()], ties: [] };
}

test("sites stand on one bank, everything else on the other, linked ones first", () => {
  const p = drawn({ parties: [party("lone", "site"), party("s", "site"), party("n", "network"), party("o", "outside")], links: [link("s", "n", 2)], ties: [] });
  const at = new Map(p.parties.map((x) => [x.party.id, x]));
  expect(at.get("s")?.bank).toBe("ground");
  expect(at.get("o")?.bank).toBe("cloud");
  expect(at.get("s")!.y).toBeLessThan(at.get("lone")!.y);
  expect(p.links[0]?.tunnels).toHaveLength(2);
});

test("links that need not cross do not", () => {
  const sites = ["a", "b", "c", "d"].map((x) => party(x, "site"));
  const nets = ["A", "B", "C", "D"].map((x) => party(x, "network"));
  expect(crossings(drawn({ parties: [...sites, ...nets], links: [link("a", "D"), link("b", "C"), link("c", "B"), link("d", "A")], ties: [] }).links)).toBe(0);
  // A star, whatever the order in which its links were made.
  const star = ["c", "a", "d", "b"].map((x) => link("hub", x));
  expect(crossings(drawn({ parties: [...sites, party("hub", "network")], links: star, ties: [] }).links)).toBe(0);
});

/** What the layout came to before neighbours changed places and links left in the order of their far ends. */
const estates = [
  { seed: 3, size: [12, 6, 2, 24], before: 73, most: 50 },
  { seed: 11, size: [20, 10, 3, 40], before: 103, most: 70 },
  { seed: 29, size: [30, 12, 4, 60], before: 467, most: 320 },
] as const;
for (const { seed, size, before, most } of estates) {
  test(`few crossings among ${size.join(" ")}: at most ${most}, once ${before}`, () => {
    const n = crossings(drawn(made(seed, size[0], size[1], size[2], size[3])).links);
    console.log(`crossings ${size.join(" ")}: ${n}, before ${before}`);
    expect(n).toBeLessThanOrEqual(most);
  });
}

test("no words lie on a line, a party or other words", () => {
  for (const { seed, size } of estates) {
    const p = drawn(made(seed, size[0], size[1], size[2], size[3]));
    const labels = p.links.flatMap((l) => {
      if (!l.label) return [];
      const w = Math.max(...l.label.lines.map((t) => t.length * 5.5));
      const x = l.label.anchor === "middle" ? l.label.x - w / 2 : l.label.anchor === "end" ? l.label.x - w : l.label.x;
      return [{ id: l.link.id, x, y: l.label.y - 10, w, h: l.label.lines.length * 15 - 2 }];
    });
    expect(labels.length).toBeGreaterThan(size[3] / 4);
    const bad: string[] = [];
    for (const [n, a] of labels.entries()) {
      for (const b of labels.slice(n + 1)) if (meets(a, b)) bad.push(`${a.id} on ${b.id}`);
      for (const x of p.parties) if (meets(a, { x: x.x, y: x.y, w: x.width, h: x.height })) bad.push(`${a.id} on ${x.party.id}`);
      for (const l of p.links)
        if (l.link.id !== a.id && l.tunnels.some((s) => sampled(s, 60).some(([x, y]) => meets(a, { x, y, w: 0.1, h: 0.1 })))) bad.push(`${a.id} on the line of ${l.link.id}`);
    }
    expect(bad).toEqual([]);
  }
});

test.describe("folding", () => {
  const huts = Array.from({ length: 9 }, (_, n) => party(`hut${n}`, "site", ["192.168.211.0/24"]));
  const estate: Estate = { parties: [...huts, party("n", "network")], links: huts.slice(0, 6).map((h) => link(h.id, "n")), ties: [] };
  const names = (e: Estate, how: Partial<How> = {}) => fold(e, { ...open, open: [], ...how }).parties.map((x) => x.name);

  test("those that are alike stand as one, with their links", () => {
    const f = fold(estate, { ...open, open: [] });
    expect(names(estate)).toEqual(["6 like hut0", "hut6", "hut7", "hut8", "n"]);
    expect(f.links.map((l) => [l.name, l.count])).toEqual([["6 links", 6]]);
  });
  test("what is selected, searched for or broken is never hidden", () => {
    expect(names(estate, { selected: "hut2" })).toContain("hut2");
    expect(names(estate, { search: "hut3" })).toContain("hut3");
    const down = { ...estate, links: estate.links.map((l, n) => (n === 1 ? { ...l, status: { up: false } } : l)) };
    expect(names(down)).toContain("hut1");
    expect(fold(estate, { ...open }).parties).toHaveLength(10);
  });
  test("many broken ones are a stack of their own", () => {
    const many = Array.from({ length: 20 }, (_, n) => party(`hut${n}`, "site"));
    const f = fold({ parties: [...many, party("n", "network")], links: many.map((h, k) => ({ ...link(h.id, "n"), status: { up: k > 9 } })), ties: [] }, { ...open, open: [] });
    expect(f.parties.map((x) => [x.members.length, x.worst])).toEqual([[10, "broken"], [10, "well"], [1, "broken"]]);
  });
  test("the head of a star stands apart from its spokes, so that their links are seen", () => {
    const f = fold({ parties: huts, links: huts.slice(1).map((h) => link(h.id, "hut0")), ties: [] }, { ...open, open: [] });
    expect(f.parties.map((x) => x.members.length)).toEqual([1, 8]);
    expect(f.links.map((l) => l.count)).toEqual([8]);
    const mesh = huts.flatMap((a, n) => huts.slice(n + 1).map((b) => link(a.id, b.id)));
    expect(names({ parties: huts, links: mesh, ties: [] })).toEqual(["9 like hut0"]);
  });
  test("parties are gathered under what they are grouped by", () => {
    const owned = huts.map((h, n) => ({ ...h, owner: n % 2 ? "Estates" : "Science" }));
    const p = drawn({ parties: owned, links: [], ties: [] }, { group: "owner" });
    expect(p.headings.map((h) => h.text)).toEqual(["Estates", "Science"]);
  });
  test("a selection touches its links and their far ends", () => {
    expect([...(touching(fold(estate, open), "hut1") ?? [])].sort()).toEqual(["hut1", "hut1-n", "n"]);
    expect(touching(fold(estate, open), "nobody")).toBeUndefined();
  });
});

test("nothing overlaps, however many there are", () => {
  const parties = Array.from({ length: 300 }, (_, n) => party(`s${n}`, n % 3 ? "site" : "network", ["10.212.0.0/16", "10.213.0.0/16"]));
  const p = drawn({ parties, links: [], ties: [{ group: "g", weight: "joined", a: "s1 10.212.0.0/16", b: "s2 10.212.0.0/16", sentence: "" }] });
  for (const side of ["ground", "cloud"]) {
    const bank = p.parties.filter((x) => x.bank === side).sort((a, b) => a.y - b.y);
    for (let n = 1; n < bank.length; n++) expect(bank[n]!.y).toBeGreaterThanOrEqual(bank[n - 1]!.y + bank[n - 1]!.height);
  }
  expect(p.ties).toHaveLength(1);
  expect(p.parties.find((x) => x.party.id === "s1")?.rows.map((r) => r.tied)).toEqual([true]);
  expect(p.parties.find((x) => x.party.id === "s1")?.more).toBe(1);
});

test("hubs and edge routers stand between the banks, beside nothing else", () => {
  const estate: Estate = {
    parties: [party("s1", "site"), party("s2", "site"), party("n1", "network"), party("n2", "network"), party("hub", "hub"), party("edge", "edge-router")],
    links: [link("s1", "edge"), link("edge", "n1"), link("hub", "n1"), link("hub", "n2"), link("n1", "n2"), link("s2", "n2")],
    ties: [],
  };
  for (const width of [700, 1280, 2560]) {
    const p = draw(fold(estate, open), width, "");
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

test("a line far longer than the window is cut to it, and stays where it was", () => {
  const whole = "M100,0 C250,0 250,30000 100,30000";
  const cut = between(whole, 12000, 13000);
  const ys = sampled(cut, 40).map(([, y]) => y);
  expect(Math.abs(Math.min(...ys) - 12000)).toBeLessThan(1);
  expect(Math.abs(Math.max(...ys) - 13000)).toBeLessThan(1);
  const near = (x: number, y: number) => Math.min(...sampled(whole, 4000).map(([p, q]) => Math.hypot(p - x, q - y)));
  for (const [x, y] of sampled(cut, 10)) expect(near(x, y)).toBeLessThan(12);
  expect(between("M0,0 C5,0 5,90 0,90", 0, 100)).toBe("M0,0 C5,0 5,90 0,90");
});
