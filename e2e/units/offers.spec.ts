import { expect, test } from "@playwright/test";
import type { Edit } from "../../web/src/api/client";
import { offeredAgain } from "../../web/src/lib/offers";

const edits = (id: string) => [{ op: "remove", id }] as Edit[];

test("what was offered is what is offered under the same words now, in the same place if there are several", () => {
  const [a, b] = [edits("a"), edits("b")];
  const then = { steps: [{ title: "make it", edits: a }], lines: [{ fixes: [{ title: "use it", edits: b }] }] };
  expect(offeredAgain(a, then, then)).toBe(a);
  const now = {
    steps: [{ title: "use it", edits: edits("step") }],
    lines: [{ fixes: [{ title: "use it", edits: edits("line") }] }],
  };
  expect(offeredAgain(b, then, now)).toEqual(edits("line"));
  expect(offeredAgain(a, then, now), "it is no longer offered").toBeUndefined();
  expect(offeredAgain(b, then, { moved: [null, { title: "use it", edits: edits("one") }] })).toEqual(edits("one"));
  expect(offeredAgain(edits("typed"), then, now), "what no answer has offered is as it is").toEqual(edits("typed"));
});
