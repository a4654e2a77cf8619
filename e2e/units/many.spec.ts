import { expect, test } from "@playwright/test";
import { manyOf } from "../../web/src/lib/many";

const parties = [
  { id: "a", name: "Alder Hut", owner: "Estates" },
  { id: "b", name: "Birch Hut", owner: "Estates" },
  { id: "m", name: "Marrow Hill", owner: "Gardens" },
  { id: "x", name: "of: an odd name" },
];
const many = manyOf(parties, ["a", "b", "m"]);
const labels = (text: string, chosen: string[] = []) => many.offer(text, chosen).map((o) => o.label);

test("several are offered before each, with how many they are", () => {
  expect(labels("")).toEqual(["All that collide (3 parties)", "All of Estates (2 parties)", "Alder Hut", "Birch Hut", "Marrow Hill", "of: an odd name"]);
  expect(labels(" hut ")).toEqual(["All that are called “hut” (2 parties)", "Alder Hut", "Birch Hut"]);
  expect(labels("estates")).toEqual(["All of Estates (2 parties)"]);
  expect(labels("marrow")).toEqual(["Marrow Hill"]); // one alone is no several
  expect(labels("nobody")).toEqual([]);
  expect(manyOf([], []).offer("", [])).toEqual([]);
});

test("what is chosen already is not offered again, and stands once", () => {
  expect(labels("hut", ["a"])).toEqual(["All that are called “hut” (2 parties)", "Birch Hut"]);
  expect(many.take("b", ["a", "b"])).toEqual(["a", "b"]);
  expect(many.take("called:hut", ["m", "a"])).toEqual(["m", "a", "b"]);
});

test("a choice is worked out from its question; anything else is a party", () => {
  expect(many.take("colliding:", [])).toEqual(["a", "b", "m"]);
  expect(many.take("of:Estates", [])).toEqual(["a", "b"]);
  expect(many.take("of:nobody", ["m"])).toEqual(["m"]);
  expect(many.take("lan-7", [])).toEqual(["lan-7"]);
  expect(many.take("odd:one", [])).toEqual(["odd:one"]);
});
