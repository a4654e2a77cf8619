import { expect, test } from "@playwright/test";
import type { Claim, Group, Stock, StockRow } from "../../web/src/api/client";
import { toRanges } from "../../web/src/api/ranges";
import { around, beside, formatAddress, meets, parseRange, sizeWords, type Range } from "../../web/src/lib/range";
import { clashColumns, clashOf, extent, rowsIn, toBars } from "../../web/src/lib/ruler";
import { CellEdits, cell, editable, parseBlock } from "../../web/src/lib/stock";

// The logic of the front end, without a browser.

const range = (text: string): Range => {
  const r = parseRange(text);
  if (!r) throw new Error(text);
  return r;
};

test.describe("ranges", () => {
  for (const [text, want] of [
    ["10.214.0.0/22", "10.214.0.0/22"],
    ["10.214.1.7/22", "10.214.0.0/22"],
    ["192.168.216.17", "192.168.216.17/32"],
    [" 10.0.0.0/8 ", "10.0.0.0/8"],
    ["0.0.0.0/0", "0.0.0.0/0"],
    ["2001:db8::/32", "2001:db8::/32"],
    ["2001:db8:0:0:1:0:0:1", "2001:db8::1:0:0:1/128"],
    ["::", "::/128"],
    ["1::", "1::/128"],
    ["::1/128", "::1/128"],
    ["2001:db8:0:1:1:1:1:1/128", "2001:db8:0:1:1:1:1:1/128"],
  ] as const) {
    test(`${text} is ${want}`, () => expect(range(text).text).toBe(want));
  }
  for (const text of ["", "tulips", "10.0.0/8", "10.220.0.256/8", "10.0.0.0/33", "10.0.0.0/-1", "1::2::3", "2001:db8::/129", "1:2:3:4:5:6:7:8:9", "10.0.0.0/8.5"]) {
    test(`"${text}" is none`, () => expect(parseRange(text)).toBeUndefined());
  }

  test("every address survives being written and read", () => {
    let seed = 11n;
    for (let n = 0; n < 500; n++) {
      seed = (seed * 6364136223846793005n + 1442695040888963407n) % (1n << 64n);
      const four = seed >> 32n;
      expect(range(formatAddress(four, 32)).start).toBe(four);
      // Holes of zeros, so that the short form has something to shorten.
      const six = ((seed << 64n) | (seed >> 3n)) & ~(0xffffn << (16n * (seed % 7n))) & ~(0xffffn << (16n * ((seed >> 8n) % 7n)));
      expect(range(formatAddress(six, 128)).start).toBe(six);
    }
  });

  test("around, beside and sizes", () => {
    expect(around(range("192.168.216.0/24"), 20).text).toBe("192.168.208.0/20");
    expect(around(range("192.168.216.0/24"), -3).text).toBe("0.0.0.0/0");
    expect(beside(range("192.168.208.0/20"), 1n).text).toBe("192.168.224.0/20");
    expect(beside(range("255.0.0.0/8"), 1n).text).toBe("255.0.0.0/8");
    expect(beside(range("0.0.0.0/8"), -1n).text).toBe("0.0.0.0/8");
    expect(meets(range("10.0.0.0/8"), range("10.255.255.0/24"))).toBe(true);
    expect(meets(range("10.0.0.0/8"), range("11.0.0.0/24"))).toBe(false);
    expect(meets(range("::/0"), range("10.0.0.0/8"))).toBe(false);
    expect(sizeWords(range("10.220.0.0/24"))).toBe("256 addresses");
    expect(sizeWords(range("10.220.0.1/32"))).toBe("1 address");
    expect(sizeWords(range("2001:db8::/64"))).toBe("2^64 addresses");
  });
});

const claim = (party: string, owner: string, prefix: string): Claim => ({ party, owner, prefix, title: `${party} ${owner}`, kind: "lan" });

test.describe("ruler", () => {
  const names = new Map([["a", "Alder"]]);
  const view = range("10.220.0.0/22");

  test("rows are holders while few, parties when many", () => {
    const few = toBars([claim("a", "x", "10.220.0.0/24"), claim("a", "y", "10.220.1.0/24"), claim("b", "z", "10.210.0.0/24"), claim("b", "v6", "::/0")], false);
    expect(rowsIn(view, few, names).map((r) => r.title)).toEqual(["a x", "a y"]);
    const many = toBars(Array.from({ length: 200 }, (_, n) => claim("a", `lan ${n}`, `10.220.${n % 4}.0/24`)), false);
    const rows = rowsIn(view, many, names);
    expect(rows.map((r) => [r.title, r.bars.length])).toEqual([["Alder", 200]]);
  });

  test("extents are cut off at the view, in both families", () => {
    const place = (v: string, p: string) => extent(range(v), { span: toBars([claim("a", "x", p)], false)[0]!.span });
    expect(place("10.220.0.0/22", "10.220.1.0/24")).toEqual([0.25, 0.5]);
    expect(place("10.220.0.0/22", "10.0.0.0/8")).toEqual([0, 1]);
    expect(place("2001:db8::/32", "2001:db8:8000::/33")).toEqual([0.5, 1]);
    expect(place("2001:db8::/126", "2001:db8::1/128")).toEqual([0.25, 0.5]);
  });

  test("clash columns mark the narrowest range of each group, the chosen one stronger", () => {
    const group = (key: string, weight: string, ...prefixes: string[]): Group =>
      ({ key, weight, claims: prefixes.map((p, n) => claim(`p${n}`, `o${n}`, p)) }) as Group;
    const all = [group("one", "breaks", "10.220.0.0/22", "10.220.1.0/24"), group("two", "apart", "10.220.3.0/24", "10.220.3.0/25"), group("three", "answered", "10.220.0.0/24", "10.220.0.0/24")];
    const marks = clashColumns(view, all.map(clashOf).filter((c) => c !== undefined), "one", 8);
    expect([...marks]).toEqual([0, 0, 2, 2, 0, 0, 1, 1]);
    expect(clashOf(all[2]!)).toBeUndefined();
  });
});

test.describe("cells", () => {
  const lan: StockRow = {
    object: { id: "l", kind: "lan", parent: "s", name: "data room", body: { prefixes: ["10.214.0.0/22"], note: "cold" } },
    party: "Marrow Hill",
    ranges: ["10.214.0.0/22"],
    owner: "",
    segment: "",
    where: "",
    note: "cold",
  };
  const site: StockRow = { ...lan, object: { id: "s", kind: "site", name: "Marrow Hill", body: {} }, ranges: [], note: "" };
  const stock: Stock = { rows: [site, lan], owners: [{ id: "o", kind: "owner", name: "Estates", body: {} }], segments: [] };

  test("what is edited where", () => {
    expect(editable(lan, "ranges")).toBe(true);
    expect(editable(lan, "owner")).toBe(false);
    expect(editable(site, "owner")).toBe(true);
    expect(editable(site, "ranges")).toBe(false);
    expect(cell(lan, "kind")).toBe("LAN");
  });

  test("many cells of one object make one edit; names of segments are made once", () => {
    const edits = new CellEdits(stock);
    expect(edits.set(lan, "ranges", "10.214.0.0/22, 2001:db8::/64")).toBe(true);
    expect(edits.set(lan, "note", "")).toBe(true);
    expect(edits.set(lan, "segment", "science")).toBe(true);
    expect(edits.set(site, "owner", "estates")).toBe(true);
    expect(edits.set(lan, "name", "data room")).toBe(false);
    expect(edits.set(lan, "owner", "x")).toBe(false);
    const all = edits.edits.map((e) => e.object!);
    expect(all.map((o) => o.kind)).toEqual(["segment", "lan", "site"]);
    const body = all[1]!.body as Record<string, unknown>;
    expect(body.prefixes).toEqual(["10.214.0.0/22", "2001:db8::/64"]);
    expect(body.note).toBeUndefined();
    expect(body.segment).toBe(all[0]!.id);
    expect((all[2]!.body as Record<string, unknown>).owner).toBe("o");
  });

  test("blocks as spreadsheets copy them", () => {
    expect(parseBlock("a\tb\r\nc\t\r\n")).toEqual([
      ["a", "b"],
      ["c", ""],
    ]);
    expect(toRanges([5, 1, 2, 3, 9])).toEqual([
      [1, 3],
      [5, 5],
      [9, 9],
    ]);
  });
});
