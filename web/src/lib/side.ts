import { searchParams } from "sv-router";
import { urlState } from "./url.svelte";

/** Which of the two designs of an estate: what is planned, or what is built. */
export type Side = "planned" | "built";

/** When a side holds. */
export const sideWord: Record<Side, string> = { built: "today", planned: "when built" };

/** The side of what is shown, from the URL. */
export const side = (): Side => (searchParams.get("when") === "today" ? "built" : "planned");

/** The side's part of the URL, which every way to another place takes along. */
export const sideState = () => urlState("when");

/** The parameters of a place's URL, with the side. */
export const withSide = (search: Record<string, string>): Record<string, string> =>
  side() === "built" && !search.when ? { ...search, when: "today" } : search;
