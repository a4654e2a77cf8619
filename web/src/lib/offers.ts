import type { Edit } from "../api/client";

interface Offer {
  title: string;
  edits: Edit[];
  path: string;
}

/** All that is offered in an answer: whatever has a title and edits, with where it stands. */
function offers(x: unknown, path = ""): Offer[] {
  if (x === null || typeof x !== "object") return [];
  const inside = Object.entries(x).flatMap(([key, value]) => offers(value, `${path}/${key}`));
  const { title, edits } = x as { title?: unknown; edits?: unknown };
  return typeof title === "string" && Array.isArray(edits)
    ? [{ title, edits: edits as Edit[], path }, ...inside]
    : inside;
}

/** The offer in an answer that has these very edits. */
export const offerOf = (edits: Edit[], answer: unknown): Offer | undefined =>
  offers(answer).find((o) => o.edits === edits);

/**
 * The edits of what was offered in an answer, as an answer after it offers the same; none if it does so no longer. Of
 * several with one title it is that in the same place.
 */
export function offeredAgain(edits: Edit[], then: unknown, now: unknown): Edit[] | undefined {
  const was = offerOf(edits, then);
  if (then === now || !was) return edits;
  const same = offers(now).filter((o) => o.title === was.title);
  return (same.find((o) => o.path === was.path) ?? (same.length === 1 ? same[0] : undefined))?.edits;
}
