import { searchParams } from "sv-router";
import { urlState } from "./url.svelte";

/** For when everything is shown: what is ready today, or all that is planned, done as planned. */
export type Horizon = "today" | "when-built";

export const horizonWord: Record<Horizon, string> = { today: "today", "when-built": "when built" };

/** The horizon of what is shown, from the URL. */
export const horizon = (): Horizon => (searchParams.get("when") === "today" ? "today" : "when-built");

/** The horizon's part of the URL, which every way to another place takes along. */
export const horizonState = () => urlState("when");

/** The parameters of a place's URL, with the horizon. */
export const withHorizon = (search: Record<string, string>): Record<string, string> =>
  horizon() === "today" && !search.when ? { ...search, when: "today" } : search;
