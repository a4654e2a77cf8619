import { causeWords } from "../api/codes";
import type { Cause, LinkLine, LinkRow, Status } from "../api/client";

/** How a state of something that is made is called. */
export const stateWord = (state: string): string => state.replaceAll("-", " ");

export const stateTone: Record<LinkRow["state"], string> = {
  planned: "text-soft",
  "being-built": "text-soft",
  ready: "text-good",
  refused: "text-clash",
  gone: "text-clash",
  "waiting-for-the-other-half": "text-warn",
};

export interface Mark {
  sign: string;
  word: string;
  tone: string;
}

/** A verdict's sign and word; never by colour alone. */
export const verdicts: Record<LinkLine["verdict"], Mark> = {
  agrees: { sign: "=", word: "agrees", tone: "text-good" },
  differs: { sign: "≠", word: "differs", tone: "text-clash" },
  beware: { sign: "!", word: "beware", tone: "text-warn" },
  unknown: { sign: "?", word: "not known yet", tone: "text-warn" },
  free: { sign: "·", word: "need not agree", tone: "text-soft" },
};

export const verdictOf = (v: LinkLine["verdict"]): Mark => verdicts[v];

/** What waits for somebody is not broken. */
const waits: Cause[] = ["not-there-yet", "not-accepted", "half-made"];

/** How something stands: up, or why not; never by colour alone. */
export function statusMark(s: Status): Mark {
  if (s.up) return { sign: "=", word: "up", tone: "text-good" };
  const code = s.code ?? "link-down";
  return waits.includes(code)
    ? { sign: "?", word: causeWords[code], tone: "text-warn" }
    : { sign: "×", word: causeWords[code], tone: "text-clash" };
}

/** What the list says of a link. */
export function rowWord(row: LinkRow): Mark {
  if (row.state === "refused" || row.state === "gone")
    return { sign: "×", word: stateWord(row.state), tone: "text-clash" };
  if (row.asks) return { sign: "?", word: "asks to join", tone: "text-warn" };
  if (!row.status.up) return statusMark(row.status);
  if (row.differing)
    return {
      sign: "≠",
      word: row.differing === 1 ? "1 line differs" : `${row.differing} lines differ`,
      tone: "text-clash",
    };
  return verdictOf(row.verdict);
}

/** The lines that must agree, and those that need not. A line that only may surprise stands with the first. */
export function split(lines: LinkLine[]): { must: LinkLine[]; free: LinkLine[] } {
  return {
    must: lines.filter((l) => l.verdict !== "free"),
    free: lines.filter((l) => l.verdict === "free"),
  };
}

/** The pairs of parties that "one to another" may mean; most few. */
export function twoParties<T extends { kind: string; name: string }>(
  text: string,
  parties: T[],
  most = 5,
): [T, T][] {
  const said = /^(?:draft |link |join )?(.+?) (?:to|with|and) (.+)$/i.exec(text.trim());
  if (!said) return [];
  const called = (part = "") =>
    parties.filter((x) => x.kind !== "outside" && x.name.toLowerCase().includes(part.trim().toLowerCase()));
  return called(said[1])
    .flatMap((a) => called(said[2]).flatMap((b): [T, T][] => (a === b ? [] : [[a, b]])))
    .slice(0, most);
}

export const speed = (mbps: number): string =>
  mbps === 0
    ? "the clouds' own"
    : mbps >= 1000
      ? `${(mbps / 1000).toLocaleString("en")} Gbit/s`
      : `${mbps} Mbit/s`;
