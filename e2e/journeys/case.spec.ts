import { expect, test } from "@playwright/test";
import { readFile } from "node:fs/promises";
import { accessible, openCase, place, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

test("from two colliding sites to a proven, translated path, and back again", async ({ page, context, browser }) => {
  await context.grantPermissions(["clipboard-read", "clipboard-write"]);
  await openCase(page);

  // The collision is seen in the picture, and leads to its group.
  await accessible(page);
  await page.getByRole("button", { name: /^Collision: Peatside Nursery glasshouse/ }).focus();
  await page.keyboard.press("Enter");
  await expect(page.getByTestId("view")).toHaveText("192.168.208.0/20");
  await expect(page.getByText("breaks an intent")).toBeVisible();
  await accessible(page);

  // The walk says where the packet goes astray.
  await place(page, "Proof");
  await page.getByRole("button", { name: /logger polls/ }).click();
  const verdict = page.getByRole("region", { name: "Verdict" });
  await expect(verdict).toContainText("delivers 192.168.216.17 to Marrow Hill museum store");
  await expect(verdict).toContainText("on-link-elsewhere");
  await accessible(page);
  const stopped = page.url();
  await page.reload();
  await expect(verdict).toContainText("museum store");

  // A second browser watches while the first maps.
  const second = await (await browser.newContext()).newPage();
  await second.goto(stopped);
  await expect(second.getByText("Intents: 0 of 3 hold")).toBeVisible();

  await verdict.getByRole("link", { name: "Plan what would work" }).click();
  const compared = page.getByRole("table", { name: "Options side by side" });
  await expect(compared.getByRole("row", { name: /Intents that hold/ })).toContainText("3 of 3");
  await expect(page.getByTestId("option")).toContainText("in table b add 10.223.0.0/24 via cloud gateway");
  await accessible(page);
  await compared.getByRole("button", { name: /^Apply/ }).first().click();
  await expect(page.getByText("Answered:")).toBeVisible();
  await expect(second.getByText("Intents: 3 of 3 hold")).toBeVisible();

  // The ledger knows both names of the controller.
  await place(page, "Ledger");
  const ledger = page.getByRole("region", { name: "Ledger" });
  await ledger.getByLabel(/Whose is it/).fill("10.223.0.17");
  await page.keyboard.press("Enter");
  await expect(page.getByTestId("names")).toContainText("192.168.216.17");
  await expect(page.getByTestId("names")).toContainText("10.223.0.17");
  await accessible(page);

  // There and back, header by header.
  await place(page, "Proof");
  await page.getByRole("button", { name: /logger polls/ }).click();
  await expect(verdict).toContainText("and the reply comes back");
  await expect(page.locator('[data-way="There"] [data-act="delivers"]')).toContainText("192.168.216.17:502");
  await expect(page.locator('[data-way="Back"] [data-act="maps source"]')).toContainText("10.223.0.17:502");

  // The files: keys only on asking, then downloaded and copied.
  await place(page, "Handover");
  await page.getByRole("button", { name: /Peatside Nursery/ }).click();
  await page.getByRole("button", { name: /dravin-keys\.conf/ }).click();
  const file = page.getByTestId("file");
  await expect(file).toContainText("(masked)");
  await expect(page.getByRole("button", { name: "Download", exact: true })).toBeDisabled();
  const all = page.waitForEvent("download");
  await page.getByRole("link", { name: "Download all" }).click();
  expect((await all).suggestedFilename()).toMatch(/\.zip$/);
  await accessible(page);
  await page.getByRole("button", { name: "Show keys" }).click();
  await expect(file).not.toContainText("(masked)");
  const wait = page.waitForEvent("download");
  await page.getByRole("button", { name: "Download", exact: true }).click();
  const saved = await wait;
  expect(saved.suggestedFilename()).toBe("dravin-keys.conf");
  expect(await readFile(await saved.path(), "utf8")).toMatch(/secret = "[A-Za-z0-9+/=]{40,}"/);
  await page.getByRole("button", { name: /dravin\.nft/ }).click();
  await page.getByRole("button", { name: "Copy", exact: true }).click();
  expect(await page.evaluate(() => navigator.clipboard.readText())).toContain("dnat ip prefix to");

  // Undone to the start, and redone, by keys.
  await page.keyboard.press("Control+z");
  await expect(second.getByText("Intents: 0 of 3 hold")).toBeVisible();
  await expect(page.getByRole("button", { name: "Undo" })).toBeDisabled();
  await page.keyboard.press("Control+Shift+z");
  await expect(second.getByText("Intents: 3 of 3 hold")).toBeVisible();
  await page.getByRole("button", { name: "Undo" }).click();
  await place(page, "Overlaps");
  await expect(page.getByText("breaks an intent")).toBeVisible();
  await second.context().close();
});

test("the palette finds objects, says whose an address may be, and acts", async ({ page }) => {
  await openCase(page);
  await page.keyboard.press("Control+k");
  await page.getByPlaceholder(/A name, an address/).fill("192.168.216.17");
  await expect(page.getByRole("option", { name: /museum store/ })).toBeVisible();
  await page.getByRole("option", { name: /Peatside Nursery glasshouse controller/ }).click();
  await expect(page.getByRole("complementary", { name: "Sheet" })).toContainText("tcp/502");
  await expect(page).toHaveURL(/sel=/);
  await page.keyboard.press("7");
  await expect(page).toHaveURL(/proof/);
  await page.keyboard.press("?");
  await expect(page.getByRole("dialog")).toContainText("Ctrl-K");
  await page.keyboard.press("Escape");
  await page.keyboard.press("f");
  await expect(page.getByRole("dialog")).toContainText("museum store");
});

test("the ruler zooms and moves by keys, wheel and typing, and keeps its view in the URL", async ({ page }) => {
  await openCase(page);
  await place(page, "Overlaps");
  const view = page.getByTestId("view");
  await expect(view).toHaveText("192.168.208.0/20");
  await page.getByRole("application").focus();
  await page.keyboard.press("-");
  await expect(view).toHaveText("192.168.192.0/19");
  await page.keyboard.press("ArrowRight");
  await expect(view).toHaveText("192.168.224.0/19");
  await page.getByPlaceholder("go to a prefix").fill("10.212.0.0/14");
  await page.keyboard.press("Enter");
  await expect(view).toHaveText("10.212.0.0/14");
  await page.reload();
  await expect(view).toHaveText("10.212.0.0/14");
  await page.getByPlaceholder("go to a prefix").fill("tulips");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("alert")).toContainText("not a prefix");
});

test("a bad file says where, stores nothing, and a good one opens", async ({ page }) => {
  await page.goto("/");
  const count = await page.getByRole("link", { name: /./ }).count();
  const choose = async (name: string, text: string) =>
    page.locator('input[type="file"]').setInputFiles({ name, mimeType: "text/yaml", buffer: Buffer.from(text) });
  const good = "dravin: 1\nname: Fernery\nsites:\n  - name: A\n    lans:\n      - name: x\n        prefixes: 10.220.0.0/24\n";
  await choose("bad.yaml", good.replace("10.220.0.0/24", "10.220.0.7/24"));
  await expect(page.getByRole("alert")).toContainText("line 7, column 19");
  await expect(page.getByRole("alert")).toContainText("the /24 that holds it is 10.220.0.0/24");
  expect(await page.getByRole("link", { name: /./ }).count()).toBe(count);
  await choose("good.yaml", good);
  await expect(page).toHaveURL(/estate/);
  await expect(page.getByRole("button", { name: "lan x 10.220.0.0/24" })).toBeVisible();
});
