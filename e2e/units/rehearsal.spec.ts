import { expect, test } from "@playwright/test";
import type { RehearsalCheck, RehearsalEvent, Rehearsed } from "../../web/src/api/client";
import { checkWords, comingUp, logs, rehearsalWord } from "../../web/src/lib/rehearsal";

const event = (kind: string, more: Partial<RehearsalEvent> = {}): RehearsalEvent => ({ kind, seconds: 1, ...more }) as RehearsalEvent;
const tunnel = (id: string, joint: string, up: boolean) => event("tunnel", { id, joint, up });
const check = (kind: string, same: boolean): RehearsalCheck => ({ kind, same, name: "x" }) as RehearsalCheck;

test("what was last said of a tunnel, session or box is what the picture shows", () => {
  const now = comingUp([
    event("step", { name: "building", done: 3, of: 9 }),
    event("box", { node: "n1", up: true }),
    event("box", { node: "n1", up: true }),
    event("box", { node: "n2", up: false }),
    tunnel("t1", "link", true),
    tunnel("t2", "link", true),
    event("session", { id: "s1", joint: "link", up: true }),
    event("session", { id: "s2", joint: "circuit", up: true }),
    tunnel("t2", "link", false),
    event("step", { name: "settling", done: 1, of: 2 }),
  ]);
  expect(now).toMatchObject({ tunnels: 1, sessions: 2, boxes: 1, step: "waits for tunnels, sessions and tables: 1 of 2" });
  // A link carries by its tunnels, whatever its session says; a circuit by its session.
  expect([...now.joints]).toEqual([
    ["link", 1],
    ["circuit", 1],
  ]);
  expect(comingUp([])).toMatchObject({ tunnels: 0, sessions: 0, boxes: 0, step: "" });
});

test("a step that this page does not know is told in its own words", () => {
  expect(comingUp([event("step", { name: "drill", text: "without Tarn", done: 0, of: 3 })]).step).toBe("drill: without Tarn: 0 of 3");
  expect(comingUp([event("step", { name: "something new" })]).step).toBe("something new");
});

test("logs are by box, in order, with when", () => {
  const log = (name: string, text: string, seconds: number) => event("log", { name, text, seconds });
  expect(logs([log("Peatside gateway", "b", 2), log("Marrow Hill gateway", "a", 1.26), event("box"), log("Peatside gateway", "c", 3)])).toEqual([
    { name: "Marrow Hill gateway", lines: ["1.3 s  a"] },
    { name: "Peatside gateway", lines: ["2.0 s  b", "3.0 s  c"] },
  ]);
});

test("checks are counted by kind, and how a rehearsal stands is never a colour alone", () => {
  const checks = [check("flow", true), check("flow", false), check("tunnel", true)];
  expect(checkWords(checks).map((k) => [k.kind, k.same, k.differ])).toEqual([
    ["tunnel", 1, 0],
    ["flow", 1, 1],
  ]);
  expect(checkWords([])).toEqual([]);
  const of = (state: string, list?: RehearsalCheck[]) =>
    rehearsalWord({ state, report: list && { checks: list } } as unknown as Rehearsed).text;
  expect(of("done", checks)).toBe("× 1 of 3 differ");
  expect(of("done", checks.slice(0, 1))).toBe("✓ 1 held, all the same");
  expect(of("broken-off")).toBe("! broken off");
  expect(of("waiting")).toBe("waits for its turn");
  expect(of("cancelled", checks)).toBe("cancelled");
});
