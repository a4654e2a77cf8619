import type { Header, Stage, WalkProof } from "../api/client";

/** What a packet meets at one place in one direction. */
export interface Half {
  /** As it comes, and as it leaves. */
  in: Header;
  out: Header;
  stages: { n: number; stage: Stage }[];
  /** It is stopped here. */
  stopped: boolean;
  /** Its place among those of its direction, from 0. */
  turn: number;
}

/** A host or box on the strip, with what happens there on the way there and on the way back. */
export interface Node {
  id: string;
  title: string;
  party: string;
  kind: string;
  there?: Half;
  back?: Half;
  /** What leads from it to the next one on the way there. */
  by: string;
  /** Equal ways that share with the one that was taken. */
  shares: number;
}

/** Joints are between places. */
const between = new Set(["link", "circuit", "peering", "attachment"]);

/** A title without the name of its party. */
const short = (title: string, party: string): string =>
  party && title.startsWith(`${party} `) ? title.slice(party.length + 1) : title;

interface Met {
  id: string;
  title: string;
  party: string;
  kind: string;
  half: Half;
  by: string;
  shares: number;
}

function met(stages: Stage[], joints: (name: string) => void): Met[] {
  const out: Met[] = [];
  let before: Header | undefined;
  stages.forEach((stage, n) => {
    const last = out.at(-1);
    if (between.has(stage.at.kind) && stage.act === "enters") {
      if (last) last.by = stage.at.title;
      joints(stage.at.title);
      before = stage.header;
      return;
    }
    if (stage.act === "enters") {
      before = stage.header;
      return; // a network or hub, in which a table decides next
    }
    const id = stage.at.id || stage.at.title;
    if (!last || last.id !== id) {
      out.push({
        id,
        title: short(stage.at.title, stage.at.party ?? ""),
        party: stage.at.party ?? "",
        kind: stage.at.kind,
        by: "",
        shares: 0,
        half: { in: before ?? stage.header, out: stage.header, stages: [], stopped: false, turn: out.length },
      });
    }
    const now = out[out.length - 1];
    if (!now) return;
    now.half.stages.push({ n, stage });
    now.half.out = stage.header;
    now.half.stopped ||= stage.act === "stops";
    now.shares = Math.max(now.shares, stage.table?.branches?.length ?? 0);
    before = stage.header;
  });
  return out;
}

/** The places of a walk in the order of the way there, each once; those that only the way back meets stand where it
 * meets them. */
export function stripOf(proof: WalkProof): Node[] {
  const out: Node[] = met(proof.forward, () => {}).map((m) => ({
    id: m.id,
    title: m.title,
    party: m.party,
    kind: m.kind,
    there: m.half,
    by: m.by,
    shares: m.shares,
  }));
  let at = out.length - 1;
  for (const m of met(proof.reply, () => {})) {
    const known = out.findLastIndex((n, k) => n.id === m.id && !n.back && k <= Math.max(at, 0));
    const found = known >= 0 ? known : out.findIndex((n) => n.id === m.id && !n.back);
    const node = out[found];
    if (node) {
      node.back = m.half;
      node.shares = Math.max(node.shares, m.shares);
      at = found;
    } else {
      out.splice(Math.max(at, 0), 0, {
        id: m.id,
        title: m.title,
        party: m.party,
        kind: m.kind,
        back: m.half,
        by: m.by,
        shares: m.shares,
      });
    }
  }
  return out;
}

/** What decided at a place, in a few words: the route, the rule or the translation. */
export function decided(half: Half): string[] {
  const out: string[] = [];
  for (const { stage } of half.stages) {
    if (stage.act === "routes" && stage.table?.winner) {
      out.push(`${stage.table.winner.prefix} ${stage.table.winner.source}`);
    } else if (stage.act === "routes") {
      out.push("no usable route");
    } else if (stage.decided) {
      out.push(
        stage.decided.rule >= 0
          ? `${stage.decided.name}, rule ${stage.decided.rule + 1}`
          : stage.decided.name,
      );
    } else if (stage.act === "maps source" || stage.act === "maps destination") {
      out.push(stage.act === "maps source" ? "source translated" : "destination translated");
    } else if (stage.act === "proxies") {
      out.push("ends one connection, opens another");
    } else if (stage.act === "matches selector") {
      out.push("selector");
    }
  }
  return [...new Set(out)];
}
