import type { Finding } from "../api/client";

/** Findings that are alike: of one severity and code. */
export interface Alike {
  key: string;
  findings: Finding[];
}

/** So many that are alike stand each for itself; more are one line with their count. */
const apart = 3;

/** Findings in their order, those that are alike in the place of the first; what is few stands each for itself. */
export function alike(list: Finding[]): Alike[] {
  const groups = new Map<string, Finding[]>();
  for (const f of list) {
    const key = `${f.severity} ${f.code} ${f.stop ?? ""}`;
    groups.set(key, [...(groups.get(key) ?? []), f]);
  }
  return [...groups].flatMap(([key, findings]) =>
    findings.length > apart ? [{ key, findings }] : findings.map((f) => ({ key: f.key, findings: [f] })),
  );
}
