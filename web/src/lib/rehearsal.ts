import type { RehearsalCheck, RehearsalEvent, Rehearsed } from "../api/client";

/** How a rehearsal stands, in words. */
export function rehearsalWord(r: Rehearsed): { text: string; tone: string } {
  const differ = r.report?.checks.filter((c) => !c.same).length ?? 0;
  switch (r.state) {
    case "waiting":
      return { text: "waits for its turn", tone: "text-soft" };
    case "playing":
      return { text: "is being played", tone: "" };
    case "cancelled":
      return { text: "cancelled", tone: "text-soft" };
    case "broken-off":
      return { text: "! broken off", tone: "text-warn" };
  }
  return differ
    ? { text: `× ${differ} of ${r.report?.checks.length} differ`, tone: "text-clash" }
    : { text: `✓ ${r.report?.checks.length ?? 0} held, all the same`, tone: "text-good" };
}

const stepWords: Record<string, string> = {
  planned: "planned",
  building: "builds namespaces and cables",
  booting: "boots all boxes",
  settling: "waits for tunnels, sessions and tables",
  sending: "sends flows",
  capturing: "captures",
  drill: "drill",
  step: "step",
};

/** What has come up by the last of some events; joints are how many tunnels, or sessions of a circuit, carry. */
export function comingUp(events: RehearsalEvent[]) {
  const up = new Map<string, { kind: string; joint: string; up: boolean }>();
  const booted = new Set<string>();
  let step = "";
  for (const e of events) {
    if ((e.kind === "tunnel" || e.kind === "session") && e.id)
      up.set(e.id, { kind: e.kind, joint: e.joint ?? "", up: e.up ?? false });
    if (e.kind === "box" && e.node && e.up) booted.add(e.node);
    if (e.kind === "step")
      step = [stepWords[e.name ?? ""] ?? e.name, e.text, e.of ? `${e.done ?? 0} of ${e.of}` : ""]
        .filter(Boolean)
        .join(": ");
  }
  const [tunnels, sessions] = ["tunnel", "session"].map(
    (kind) => [...up.values()].filter((x) => x.kind === kind && x.up).length,
  );
  // A link carries by its tunnels, a circuit by its session.
  const links = new Set([...up.values()].filter((x) => x.kind === "tunnel").map((x) => x.joint));
  const joints = new Map<string, number>();
  for (const x of up.values())
    if (x.up && (x.kind === "tunnel" || !links.has(x.joint)))
      joints.set(x.joint, (joints.get(x.joint) ?? 0) + 1);
  return { joints, tunnels, sessions, boxes: booted.size, step };
}

/** What the boxes' own programs have said, by box. */
export function logs(events: RehearsalEvent[]): { name: string; lines: string[] }[] {
  const by = new Map<string, string[]>();
  for (const e of events) {
    if (e.kind !== "log" || !e.name) continue;
    const lines = by.get(e.name) ?? [];
    by.set(e.name, lines);
    lines.push(`${e.seconds.toFixed(1)} s  ${e.text ?? ""}`);
  }
  return [...by].map(([name, lines]) => ({ name, lines })).sort((a, b) => a.name.localeCompare(b.name));
}

const kinds = [
  ["tunnel", "Tunnels", "both IPsec daemons hold child SAs, or do not, as the proof says"],
  ["session", "Sessions", "established at both ends, or not, as the proof says"],
  ["table", "Tables", "a kernel's table holds what its daemon is proven to learn, and nothing else"],
  ["terms", "Terms", "what one's own daemons agreed on and are set to, with a renewal that was forced"],
  ["flow", "Flows", "answered by whom the walk says, under the addresses that it says"],
  ["drill", "Drills", "as flows, once something has been taken away"],
  ["step", "Steps", "checks of the runbook's steps, and flows on the half-done estate"],
] as const;

/** How many checks of each kind are the same, and how many are not. */
export function checkWords(checks: RehearsalCheck[]) {
  return kinds
    .map(([kind, title, doc]) => {
      const of = checks.filter((c) => c.kind === kind);
      const differ = of.filter((c) => !c.same).length;
      return { kind, title, doc, same: of.length - differ, differ };
    })
    .filter((k) => k.same + k.differ > 0);
}
