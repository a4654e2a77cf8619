import { request as open, type ClientRequest } from "node:http";
import { expect, test } from "@playwright/test";
import { accessible, openCase, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

const part = (name: string, of: string) => `--x\r\nContent-Disposition: form-data; ${name}\r\n\r\n${of}\r\n`;

/** An import that has begun, and whose file goes on. */
function bringIn(origin: string, id: string): ClientRequest {
  const held = open(`${origin}/api/designs/${id}/import`, {
    method: "POST",
    headers: { "Content-Type": "multipart/form-data; boundary=x", "Transfer-Encoding": "chunked" },
  });
  held.on("error", () => undefined);
  held.write(part('name="how"', "{}") + part('name="file"; filename="f"', "party,prefix"));
  return held;
}

/** Whether one more import has to wait. */
async function isQueued(origin: string, id: string): Promise<boolean> {
  const probe = bringIn(origin, id);
  probe.end("--x--\r\n");
  const told = await new Promise<string>((done) => {
    probe.on("response", (answer) => answer.once("data", (line: Buffer) => done(line.toString())));
    probe.on("close", () => done(""));
  });
  probe.destroy();
  return told.includes('"waiting":1');
}

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
  const slow = [0, 1].map(() => bringIn(new URL(page.url()).origin, id));
  await expect.poll(() => isQueued(new URL(page.url()).origin, id), { timeout: 60_000 }).toBe(true);
  await page.locator("#pasted").fill("Marrow Hill: new plot 10.212.9.0/24");
  await page.getByRole("button", { name: "Preview" }).click();
  await expect(page.getByRole("status").filter({ hasText: /Place in the queue: [12]/ })).toBeVisible();
  // Whoever has given up before its turn keeps its place until then.
  for (const held of slow) held.destroy();
  await expect(page.getByRole("button", { name: "Bring in 1 line" })).toBeVisible();
  expect((await request.get(`/api/designs/${id}/history`)).ok()).toBe(true);
});
