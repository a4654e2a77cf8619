import type { FieldShape, Form } from "../api/client";
import { kindWords } from "../api/codes";

export type Values = Record<string, unknown>;

/** A key as people read it. */
const keyWords: Record<string, string> = {
  fixed: "cannot change",
  born: "originated by",
  asn: "ASN",
  vlan: "VLAN tag",
  ike: "IKE",
  esp: "ESP",
};
export const keyWord = (key: string): string => keyWords[key] ?? key.replaceAll("_", " ");

/** What people call a kind; what is no object's kind is its own word. */
export const kindWord = (kind: string): string =>
  (kindWords as Record<string, string>)[kind] ?? kind.replaceAll("-", " ");

/** A kind's word with the article that goes before it. */
export const oneOf = (kind: string): string => {
  const word = kindWord(kind);
  return `${/^[aeio]/.test(word) ? "an" : "a"} ${word}`;
};

/** What a list of one more begins with. */
export const blank = (f: FieldShape): unknown => (f.type === "parts" ? blanks(f.parts ?? []) : "");

/** Parts with the rows that they must have. */
export function blanks(fields: FieldShape[]): Values {
  const out: Values = {};
  for (const f of fields)
    if (f.many && f.min) out[f.key] = Array.from({ length: f.min }, () => blank({ ...f, many: false }));
  return out;
}

/** What a form begins with: what is there, or what a new one would be given where it must have something. */
export function begun(form: Form): Values {
  const body = { ...form.body } as Values;
  if (form.object) return body;
  const rows = blanks(form.fields);
  for (const f of form.fields) {
    const first = form.suggestions[f.key]?.[0]?.value;
    if (!f.optional && first) body[f.key] = f.many ? [first] : first;
    else if (rows[f.key]) body[f.key] = rows[f.key];
    else if (!f.optional && f.many) body[f.key] = [];
  }
  return body;
}

/** The values as they are sent: what is empty is left out, numbers are numbers. */
export function sent(fields: FieldShape[], values: Values): Values {
  const out: Values = {};
  for (const f of fields) {
    const v = f.many
      ? ((values[f.key] as unknown[] | undefined) ?? []).map((x) => one(f, x)).filter((x) => x !== undefined)
      : one(f, values[f.key]);
    if (Array.isArray(v) && v.length === 0 && f.optional) continue;
    if (v !== undefined) out[f.key] = v;
  }
  return out;
}

function one(f: FieldShape, v: unknown): unknown {
  if (f.type === "parts") return v === undefined ? undefined : sent(f.parts ?? [], v as Values);
  if (v === undefined || v === "" || v === false) return undefined;
  if (f.type === "number" && /^\d+$/.test(String(v))) return Number(v);
  return v;
}

/** The values with another text at one place: what a form sends, were it typed there. */
export function written(
  fields: FieldShape[],
  values: Values,
  [key, ...rest]: (string | number)[],
  text: string,
): Values {
  const field = fields.find((f) => f.key === key);
  if (!field) return values;
  const value = put(field, values[field.key], rest, text);
  return value === undefined
    ? Object.fromEntries(Object.entries(values).filter(([k]) => k !== key))
    : { ...values, [field.key]: value };
}

function put(f: FieldShape, value: unknown, keys: (string | number)[], text: string): unknown {
  const [at, ...rest] = keys;
  if (f.many && typeof at === "number") {
    const list = (value as unknown[]).map((v, n) =>
      n === at ? put({ ...f, many: false }, v, rest, text) : v,
    );
    return list.filter((v) => v !== undefined);
  }
  if (f.type === "parts") return written(f.parts ?? [], (value ?? {}) as Values, keys, text);
  if (f.type === "yes-or-no") return ["yes", "true"].includes(text) || undefined;
  return one(f, text);
}

/** Fields that are shown at once: those that must be given, and those that have a value. */
export const shownFirst = (f: FieldShape, values: Values, also: string[]): boolean =>
  !f.optional ||
  also.includes(f.key) ||
  (values[f.key] !== undefined &&
    values[f.key] !== "" &&
    !(Array.isArray(values[f.key]) && (values[f.key] as unknown[]).length === 0));
