import { expect, test, type Page } from "@playwright/test";
import { accessible, strict, trust } from "./page";

test.beforeEach(({ page }) => strict(page));

const side = (page: Page, word: string) => page.getByRole("group", { name: "For when" }).getByRole("radio", { name: word });

// What the sheet says is down carries nothing anywhere, today and when built; the
// walk leads to the line, and once that is fixed all follows.
test("a tunnel that is down carries nothing, and the walk leads to the line that is to blame", async ({ page, request }) => {
  const { id } = await trust(request);
  const link = "Marrow Hill to catalogue";
  const cut = async (tunnel: string) => {
    await page.getByRole("button", { name: new RegExp(`^${tunnel} `) }).click();
    await page.getByRole("button", { name: /Change IKE proposals at Marrow Hill/ }).click();
    await page.keyboard.type("aes128-sha256-modp2048");
    await page.keyboard.press("Enter");
    await page.getByRole("button", { name: /Change IKE proposals at catalogue/ }).click();
    await page.keyboard.type("aes256-sha384-ecp384");
    await page.keyboard.press("Enter");
    await expect(page.getByRole("button", { name: new RegExp(`^${tunnel} `) })).toContainText("down");
  };
  await page.goto(`/designs/${id}/links`);
  await page.getByRole("button", { name: new RegExp(`^${link}`) }).click();
  await expect(page.getByTestId("status")).toContainText("up when built");
  await cut("tunnel 1");
  await expect(page.getByTestId("status")).toContainText("up when built");
  await cut("tunnel 2");
  await expect(page.getByTestId("status")).toContainText("down when built");

  // The picture breaks its line.
  await page.goto(`/designs/${id}/estate`);
  const line = page.getByRole("button", { name: new RegExp(`^Link ${link}`) });
  await expect(line).toHaveAttribute("data-up", "false");
  await expect(line).toContainText("0 of 2 tunnels up");
  await page.getByRole("button", { name: "site Marrow Hill" }).click();
  await page.getByRole("button", { name: /^gateway ?gateway$/ }).first().click();
  await expect(page.getByText(/not usable: the two ends of Marrow Hill to catalogue/).first()).toBeVisible();

  // What was changed is the plan: the walk works today, and once it is built it stops there, and leads to the line.
  await page.goto(`/designs/${id}/proof?from=marrow-hill/data-room/controls-desk&to=10.208.1.10&service=tcp/6514`);
  await side(page, "Today").click();
  const verdict = page.getByRole("region", { name: "Verdict" });
  await expect(verdict).toContainText("works today");
  await side(page, "When built").click();
  await expect(verdict).toContainText("stopped on the way there when built");
  await expect(verdict).toContainText("link-down");
  await expect(verdict).toContainText("IKE proposals");
  await accessible(page);
  await page.getByRole("link", { name: "Open the line on the sheet" }).click();
  const shown = page.locator('tr[data-line="ike"]');
  await expect(shown).toHaveAttribute("aria-current", "true");

  // Fixed there, all follow.
  await page.locator('tr[data-line="ike"] + tr').getByRole("button").first().click();
  await expect(page.getByTestId("status")).toContainText("up when built");
  await page.goto(`/designs/${id}/proof?from=marrow-hill/data-room/controls-desk&to=10.208.1.10&service=tcp/6514`);
  await expect(page.getByRole("region", { name: "Verdict" })).toContainText("works when built");
  await page.goto(`/designs/${id}/estate`);
  await expect(line).toHaveAttribute("data-up", "true");
  await expect(line).toContainText("1 of 2 tunnels up");
});

test("what is only planned works when built and not today", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/links`);
  const row = page.getByRole("button", { name: /^herbarium scans circuit 2/ });
  await expect(row).not.toContainText("not there yet");
  await side(page, "Today").click();
  await expect(page).toHaveURL(/when=today/);
  await expect(row).toContainText("not there yet");
  await page.getByRole("link", { name: "Estate", exact: true }).click();
  await expect(page).toHaveURL(/estate\?when=today/);
  await page.keyboard.press("t");
  await expect(page).not.toHaveURL(/when=/);
});
