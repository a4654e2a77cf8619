import { expect, test } from "@playwright/test";
import { accessible, openCase, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

test("a deleted design is taken back, with everything in it", async ({ page }) => {
  await openCase(page);
  const id = page.url().split("/")[4] ?? "";
  await page.goto("/");
  const row = page.getByRole("listitem").filter({ has: page.locator(`a[href*="${id}"]`) });
  await row.getByRole("button", { name: "Delete" }).click();
  await page.getByRole("alertdialog").getByRole("button", { name: "Delete it" }).click();
  await expect(page.getByText(/Two gardens.* is deleted/)).toBeVisible();
  await expect(page.locator(`a[href*="${id}"]`)).toHaveCount(0);
  await accessible(page);
  const kept = page.getByRole("region", { name: "Deleted" });
  await expect(kept).toContainText("Two gardens");
  await kept.getByRole("button", { name: "Take back" }).first().click();
  await expect(page.locator(`a[href*="${id}"]`)).toBeVisible();
  await page.goto(`/designs/${id}/estate`);
  await expect(page.getByRole("button", { name: /^lan glasshouse/ }).first()).toBeVisible();
});

test("what everybody should know stands on every page", async ({ page }) => {
  await page.route("**/api/about", (route) =>
    route.fulfill({ json: { version: "1", warnings: ["This Dravin is open to everyone."] } }),
  );
  await page.goto("/");
  await expect(page.getByText("This Dravin is open to everyone.")).toBeVisible();
  await openCase(page);
  await expect(page.getByText("This Dravin is open to everyone.")).toBeVisible();
  const beyond = await page.evaluate(() => document.documentElement.scrollHeight - innerHeight);
  expect(beyond).toBe(0);
  await accessible(page);
});

test("an import that waits tells its place, and can be broken off", async ({ page, request }) => {
  await openCase(page);
  const id = page.url().split("/")[4] ?? "";
  await page.getByRole("radio", { name: "Bring in" }).click();
  // Two imports from elsewhere that do not come to an end take the two places.
  const slow = await Promise.all(
    [0, 1].map(async () => {
      const { request: open } = await import("node:http");
      const held = open(`${new URL(page.url()).origin}/api/designs/${id}/import`, {
        method: "POST",
        headers: { "Content-Type": "multipart/form-data; boundary=x", "Transfer-Encoding": "chunked" },
      });
      held.on("error", () => undefined);
      held.write('--x\r\nContent-Disposition: form-data; name="how"\r\n\r\n{}\r\n--x\r\nContent-Disposition: form-data; name="file"; filename="f"\r\n\r\nparty,prefix\r\n');
      return held;
    }),
  );
  await page.waitForTimeout(300);
  await page.locator("#pasted").fill("Marrow Hill: new plot 10.212.9.0/24");
  await page.getByRole("button", { name: "Preview" }).click();
  await expect(page.getByRole("status").filter({ hasText: "Place in the queue: 1" })).toBeVisible();
  for (const held of slow) held.destroy();
  await expect(page.getByRole("button", { name: "Bring in 1 line" })).toBeVisible();
  expect((await request.get(`/api/designs/${id}/history`)).ok()).toBe(true);
});
