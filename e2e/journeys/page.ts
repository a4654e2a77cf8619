import AxeBuilder from "@axe-core/playwright";
import { expect, type APIRequestContext, type Page } from "@playwright/test";

/** Whatever a page logs as an error, or the content policy refuses, fails the journey. */
export function strict(page: Page): void {
  page.on("console", (message) => {
    if (message.type() === "error" && !/status of 4\d\d/.test(message.text())) throw new Error(message.text());
  });
  page.on("pageerror", (error) => {
    throw error;
  });
}

export const place = (page: Page, name: string) => page.getByRole("navigation", { name: "Places" }).getByRole("link", { name }).click();

/** Until nothing is worked out or moves any more. */
export async function settled(page: Page): Promise<void> {
  await page.waitForFunction(() => !document.querySelector('[aria-busy="true"]') && document.getAnimations().every((a) => a.playState !== "running"));
  await page.evaluate(() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done))));
}

/** What does not depend on colours; [contrasting] looks at these, everywhere and in both themes. */
export const accessible = (page: Page): Promise<void> =>
  clean(axe(page).withTags(standard).disableRules(["color-contrast"]));

/** The contrast of everything in sight, which takes most of the time that axe takes. */
export const contrasting = (page: Page): Promise<void> => clean(axe(page).withRules(["color-contrast"]));

/** Both of them, in one look. */
export const legible = (page: Page): Promise<void> => clean(axe(page).withTags(standard));

const standard = ["wcag2a", "wcag2aa"];

const axe = (page: Page) => new AxeBuilder({ page }).options({ resultTypes: ["violations"] });

async function clean(looking: AxeBuilder): Promise<void> {
  const { violations } = await looking.analyze();
  expect(violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.html).join(" | ")}`)).toEqual([]);
}

/** Opens the two gardens as a design of their own. */
export async function openCase(page: Page): Promise<void> {
  await page.goto("/");
  await page.locator('input[type="file"]').setInputFiles("../demo/two-gardens.yaml");
  await expect(page).toHaveURL(/estate/);
}

/** The whole trust as a design of its own, and the ID of each party by name. */
export async function trust(request: APIRequestContext): Promise<{ id: string; of: Map<string, string> }> {
  const { id } = (await (await request.post("/api/designs", { data: { from: "demo" } })).json()) as { id: string };
  const estate = (await (await request.get(`/api/designs/${id}/estate`)).json()) as { parties: { id: string; name: string }[] };
  return { id, of: new Map(estate.parties.map((x) => [x.name, x.id])) };
}
