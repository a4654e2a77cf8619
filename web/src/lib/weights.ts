import type { Group } from "../api/client";

type Weight = Group["weight"];

/** How bad a collision is, in the words of the findings, and why. */
export const weights: Record<Weight, { word: string; why: string; tone: string; line: string }> = {
  breaks: { word: "broken", why: "breaks an intent", tone: "text-clash", line: "stroke-clash" },
  joined: { word: "at risk", why: "breaks when used", tone: "text-warn", line: "stroke-clash" },
  planned: { word: "at risk", why: "breaks after a drafted link", tone: "text-warn", line: "stroke-clash" },
  within: { word: "at risk", why: "within one party", tone: "text-warn", line: "stroke-clash" },
  apart: { word: "untidy", why: "breaks when joined", tone: "text-soft", line: "stroke-rule" },
  divided: { word: "untidy", why: "segments keep them apart", tone: "text-soft", line: "stroke-rule" },
  answered: { word: "answered", why: "by translation", tone: "text-good", line: "stroke-good" },
};

/** Whether somebody has to do something about it. */
export const pressing = (w: Weight): boolean => ["broken", "at risk"].includes(weights[w].word);

/** Claims on equal ranges together, in the order in which they come. */
export function alike<C extends { prefix: string }>(claims: C[]): { prefix: string; claims: C[] }[] {
  const out = new Map<string, C[]>();
  for (const c of claims) out.set(c.prefix, [...(out.get(c.prefix) ?? []), c]);
  return [...out].map(([prefix, list]) => ({ prefix, claims: list }));
}
