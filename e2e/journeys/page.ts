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

export async function accessible(page: Page): Promise<void> {
  const { violations } = await new AxeBuilder({ page }).withTags(["wcag2a", "wcag2aa"]).analyze();
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
