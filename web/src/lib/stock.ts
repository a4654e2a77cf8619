import type { Edit, Kind, NamedObject, Stock, StockRow } from "../api/client";
import { kindWord } from "./form";

export type StockObject = StockRow["object"];
export type Body = Record<string, unknown>;

/** An ID that nothing has. */
export const freshID = (): string => crypto.randomUUID().replaceAll("-", "").slice(0, 16);

export type ColumnKey = "party" | "kind" | "name" | "ranges" | "owner" | "segment" | "where" | "note";

export const columns: { key: ColumnKey; title: string; width: string }[] = [
  { key: "party", title: "Party", width: "minmax(9rem, 1.3fr)" },
  { key: "kind", title: "Kind", width: "6.5rem" },
  { key: "name", title: "Name", width: "minmax(8rem, 1.3fr)" },
  { key: "ranges", title: "Ranges and addresses", width: "minmax(11rem, 1.6fr)" },
  { key: "owner", title: "Owner", width: "minmax(6rem, 1fr)" },
  { key: "segment", title: "Segment", width: "minmax(6rem, 0.8fr)" },
  { key: "where", title: "Where", width: "minmax(6rem, 1fr)" },
  { key: "note", title: "Note", width: "minmax(7rem, 1.6fr)" },
];

export const cell = (row: StockRow, key: ColumnKey): string => {
  if (key === "kind") return kindWord(row.object.kind);
  if (key === "name") return row.object.name;
  if (key === "ranges") return row.ranges.join(", ");
  return row[key];
};

const rangeField: Partial<Record<Kind, string>> = {
  lan: "prefixes",
  "inner-route": "prefixes",
  subnet: "prefixes",
  outside: "prefixes",
  network: "blocks",
  endpoint: "addresses",
  gateway: "addresses",
};
const owned = ["site", "network", "outside"];
const segmented = ["lan", "inner-route", "network", "outside"];

export function editable(row: StockRow, key: ColumnKey): boolean {
  const kind = row.object.kind;
  if (key === "name" || key === "note") return true;
  if (key === "ranges") return kind in rangeField || kind === "reservation";
  if (key === "owner") return owned.includes(kind);
  if (key === "segment") return segmented.includes(kind);
  return key === "where" && kind === "subnet";
}

/** Collects edits of cells into one change set: each object once, owners and segments made as they are named. */
export class CellEdits {
  private objects = new Map<string, StockObject>();
  private made = new Map<string, NamedObject>();
  /** What was in a list and is not any more, in sentences. */
  readonly gone: string[] = [];
  /** What was to be taken out of a list and is not in it, in sentences. */
  readonly trouble: string[] = [];

  constructor(private readonly stock: Stock) {}

  set(row: StockRow, key: ColumnKey, value: string): boolean {
    if (!editable(row, key) || cell(row, key) === value.trim()) return false;
    const now = this.objects.get(row.object.id) ?? row.object;
    const body: Body = { ...(now.body as Body) };
    let name = now.name;
    const text = value.trim();
    if (key === "name") name = text;
    else if (key === "ranges" && now.kind === "reservation") body.prefix = text;
    else if (key === "ranges") {
      const field = rangeField[now.kind] ?? "prefixes";
      body[field] = this.listed(name, (body[field] as string[] | undefined) ?? [], text);
    } else {
      const field = key === "where" ? "zone" : key;
      const stored = key === "owner" || key === "segment" ? this.named(key, text) : text;
      if (stored) body[field] = stored;
      else body[field] = undefined;
    }
    this.objects.set(row.object.id, { ...now, name, body });
    return true;
  }

  /** A list as it is typed: all of it, or, with + and - before each, what comes to it and what goes. */
  private listed(name: string, old: string[], text: string): string[] {
    const words = text.split(/[\s,;]+/).filter(Boolean);
    const signed = words.length > 0 && words.every((w) => /^[+-]./.test(w));
    const take = signed ? words.filter((w) => w.startsWith("-")).map((w) => w.slice(1)) : [];
    const give = signed ? words.filter((w) => w.startsWith("+")).map((w) => w.slice(1)) : words;
    const lacking = take.filter((w) => !old.includes(w));
    if (lacking.length)
      this.trouble.push(`${lacking.join(", ")} is not in ${name}, which has ${old.join(", ")}`);
    const next = signed ? [...new Set([...old.filter((w) => !take.includes(w)), ...give])] : give;
    const gone = old.filter((w) => !next.includes(w));
    if (gone.length) this.gone.push(`${gone.join(", ")} is gone from ${name}`);
    return next;
  }

  private named(kind: "owner" | "segment", name: string): string {
    if (!name) return "";
    const known = kind === "owner" ? this.stock.owners : this.stock.segments;
    const same = (o: NamedObject) => o.name.toLowerCase() === name.toLowerCase();
    const found = known.find(same) ?? this.made.get(`${kind} ${name.toLowerCase()}`);
    if (found) return found.id;
    const made = { id: freshID(), kind, name, body: {} } as NamedObject;
    this.made.set(`${kind} ${name.toLowerCase()}`, made);
    return made.id;
  }

  get edits(): Edit[] {
    return [...this.made.values(), ...this.objects.values()].map(
      (object) => ({ op: "put", id: object.id, object }) as Edit,
    );
  }
}

/** What is pasted from a spreadsheet: rows of cells. */
export const parseBlock = (text: string): string[][] =>
  text
    .replace(/\r/g, "")
    .replace(/\n$/, "")
    .split("\n")
    .map((line) => line.split("\t"));
