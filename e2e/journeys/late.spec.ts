import { expect, test, type Page } from "@playwright/test";
import { openCase, place, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

/** Every answer of the server comes two seconds late. */
async function slow(page: Page): Promise<void> {
  await page.route("**/api/**", async (route) => {
    if (route.request().url().includes("/events")) return route.continue();
    await new Promise((done) => setTimeout(done, 2000));
    await route.continue().catch(() => undefined); // the page may have gone on
  });
}

test("answers that come late move no cursor, take no keystroke and lose no change: in the table", async ({ page }) => {
  await openCase(page);
  await page.getByRole("radio", { name: "Table" }).click();
  const grid = page.getByRole("grid", { name: "Stock" });
  await page.getByLabel("Filter").fill("LAN");
  await expect(grid.getByRole("row")).not.toHaveCount(1);
  await grid.getByTitle("data room").click();
  await slow(page);
  const written = page.waitForResponse((r) => r.request().method() === "POST");
  const lookedAtAgain = written.then(() => page.waitForResponse((r) => r.url().includes("/stock")));
  // The first is renamed so that it would be sorted elsewhere, and the next is typed at once.
  await page.keyboard.press("Enter");
  await page.keyboard.type("zoology room");
  await page.keyboard.press("Enter");
  const second = await grid.locator('[aria-selected="true"]').textContent();
  expect(second).not.toBe("zoology room"); // the cursor is on the next row already
  await page.keyboard.press("Enter");
  await page.keyboard.type("annexe");
  await lookedAtAgain; // the first answer, and what is looked at again, come while it is typed
  await expect(page.getByRole("textbox", { name: / of / })).toBeFocused();
  await page.keyboard.type(" two");
  await page.keyboard.press("Enter");
  await expect(grid).toContainText("annexe two"); // shown as typed, before it is answered
  await expect(grid.locator('[aria-busy="true"]')).toHaveCount(0);
  await page.unroute("**/api/**");
  await page.reload();
  await expect(grid).toContainText("zoology room");
  await expect(grid).toContainText("annexe two");
  await expect(grid).not.toContainText(second ?? "?");
});

test("answers that come late leave alone what is said meanwhile", async ({ page }) => {
  await openCase(page);
  const say = page.getByRole("textbox", { name: "Say" });
  await slow(page);
  await say.fill("site Fern Lodge");
  await say.press("Enter");
  await say.press("End");
  await say.pressSequentially("xyz", { delay: 20 });
  await expect(page.getByText("New site Fern Lodge").first()).toBeVisible({ timeout: 20_000 });
  await expect(say).toHaveValue("xyz");
  await place(page, "Overlaps");
});

test("what another has set in a cell meanwhile is told, and stands until one says otherwise", async ({ page, request }) => {
  await openCase(page);
  const id = page.url().split("/")[4] ?? "";
  await page.getByRole("radio", { name: "Table" }).click();
  const grid = page.getByRole("grid", { name: "Stock" });
  await page.getByLabel("Filter").fill("data room");
  await grid.getByTitle("data room", { exact: true }).click();
  await page.keyboard.press("Enter");
  const input = page.getByRole("textbox", { name: / of / });
  await input.fill("zoology annexe");
  const { position } = (await (await request.get(`/api/designs/${id}`)).json()) as { position: number };
  const stock = (await (await request.get(`/api/designs/${id}/stock`)).json()) as {
    rows: { object: { id: string; name: string } }[];
  };
  const object = stock.rows.find((r) => r.object.name === "data room")?.object;
  const put = { op: "put", id: object?.id, object: { ...object, name: "zoology store" } };
  const edit = { base: position, reason: "Theirs", edits: [put] };
  const lookedAtAgain = page.waitForResponse((r) => r.url().includes("/stock"));
  expect((await request.post(`/api/designs/${id}/changes`, { data: edit })).ok()).toBe(true);
  await (await lookedAtAgain).finished();
  await expect(page.getByTitle(/Undo: Theirs/), "what another did is not mine to undo").toHaveCount(0);
  await page.waitForTimeout(500); // until it is drawn
  await input.press("Enter");
  await expect(page.getByText("somebody has set “zoology store” meanwhile")).toBeVisible();
  await page.getByLabel("Filter").fill("zoology");
  await expect(grid).toContainText("zoology store");
  await page.getByRole("button", { name: "Take mine" }).click();
  await expect(grid).toContainText("zoology annexe");
});
