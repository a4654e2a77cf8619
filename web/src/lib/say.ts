import type { Heard, Offer, SaidLine } from "../api/client";

/** The line that the cursor is in, up to the cursor, and where it begins in the text. */
export function lineAt(text: string, cursor: number): { line: string; from: number } {
  const from = text.lastIndexOf("\n", cursor - 1) + 1;
  return { line: text.slice(from, cursor), from };
}

/** The text with an offer taken, and where the cursor is then. Positions of the offer are characters of its line. */
export function taken(text: string, cursor: number, offer: Offer): { text: string; cursor: number } {
  const { line, from } = lineAt(text, cursor);
  const letters = Array.from(line);
  const before = letters.slice(0, offer.from).join("");
  const gap = before && !before.endsWith(" ") && offer.from === offer.to ? " " : "";
  const now = `${before}${gap}${offer.text} `;
  return {
    text: text.slice(0, from) + now + text.slice(cursor).replace(/^ /, ""),
    cursor: from + now.length,
  };
}

/** A line in three parts around what a problem points at. */
export function marked(line: SaidLine, n: number): [string, string, string] {
  const p = line.problems[n];
  const letters = Array.from(line.text);
  if (!p) return [line.text, "", ""];
  return [
    letters.slice(0, p.from).join(""),
    letters.slice(p.from, p.to).join("") || " ",
    letters.slice(p.to).join(""),
  ];
}

/** Whether there is anything to apply. */
export const doable = (h: Heard | undefined): boolean =>
  Boolean(h && !h.wrong && (h.edits.length > 0 || h.leads));

const begins =
  /^(set|rename|remove|move|give|join|copy|reserve|site|network|cloud|hub|edge|outside|partner|gateway|lan|inner|table|route|subnet|host|endpoint|reservation|link|tunnel|strand|circuit|attachment|peering|session|request|mapping|intent|owner|segment|profile)\b/i;

/** Whether a text in the palette is meant to be said, and not looked for. */
export const saying = (text: string): boolean => begins.test(text.trim()) || /\bmust\b/i.test(text);
