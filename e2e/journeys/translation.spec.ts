import { expect, test, type Page } from "@playwright/test";
import { accessible, place, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

/** Opens the story of a remedy as a design of its own, and the plan for its worst conflict. */
async function story(page: Page, name: string): Promise<void> {
  await page.goto("/");
  await page.locator('input[type="file"]').setInputFiles(`../demo/remedies/${name}.yaml`);
  await expect(page).toHaveURL(/estate/);
  await place(page, "Overlaps");
  await page.getByRole("link", { name: "Plan what would work" }).first().click();
  await expect(compared(page)).toBeVisible();
}

const compared = (page: Page) => page.getByRole("table", { name: "Options side by side" });
const option = (page: Page) => page.getByTestId("option");
const column = (page: Page, n: number) => compared(page).getByRole("columnheader").nth(n);

async function apply(page: Page, title: RegExp): Promise<void> {
  await compared(page)
    .getByRole("button", { name: title })
    .and(page.getByRole("button", { name: /^Apply/ }))
    .first()
    .click();
  await expect(page.getByRole("button", { name: "Undo" })).toBeEnabled();
}

async function holds(page: Page, all: string): Promise<void> {
  await place(page, "Proof");
  await expect(page.getByText(`Intents: ${all} hold`)).toBeVisible();
}

test("two gardens with the same range: both are mapped, and why one is not enough", async ({ page }) => {
  await story(page, "two-gardens-alike");
  await expect(column(page, 1)).toContainText("Map Old Orangery glasshouse and Peatside Nursery glasshouse");
  await expect(option(page)).toContainText("Why one side is not enough");
  await expect(option(page)).toContainText("Old Orangery must know Peatside Nursery glasshouse and holds Old Orangery glasshouse itself");
  await expect(option(page)).toContainText("fewer do not serve");
  // Tried, and not applied: the walk with the remedy, with what each box remembers.
  await page.getByRole("button", { name: "Walk: the orangery asks Peatside" }).click();
  const tried = page.getByTestId("tried");
  await expect(tried.getByRole("region", { name: "Verdict" })).toContainText("works");
  await expect(tried.locator('[data-way="There"] [data-act="maps source"]')).toContainText("(postrouting)");
  await expect(tried.getByRole("table", { name: "Connection tables" }).getByRole("row")).toHaveCount(3);
  await expect(page.getByRole("button", { name: "Undo" })).toBeDisabled();
  await accessible(page);
  // One side alone is refused, with the walk that fails.
  await page.getByRole("button", { name: /Map Peatside Nursery glasshouse one to one/ }).click();
  await expect(option(page)).toContainText("Refused");
  await expect(option(page)).toContainText("on-link-elsewhere");
  await apply(page, /Map Old Orangery glasshouse and/);
  await holds(page, "2 of 2");
  await page.keyboard.press("Control+z"); // applied as one, undone as one
  await expect(page.getByText("Intents: 0 of 2 hold")).toBeVisible();
});

test("the partner gets one published service, and nothing else", async ({ page }) => {
  await story(page, "partner");
  await expect(column(page, 1)).toContainText("Publish catalogue search tcp/8443");
  await page.getByRole("button", { name: /Map Ashcombe Herbarium/ }).click();
  await expect(option(page)).toContainText("must never work, and would");
  await apply(page, /Publish catalogue search/);
  await holds(page, "4 of 4");
  await page.getByRole("button", { name: /the partner searches/ }).click();
  await expect(page.locator('[data-way="There"] [data-act="proxies"]')).toContainText("accepts the connection");
  await place(page, "Handover");
  await page.getByRole("button", { name: /^catalogue/ }).click();
  await expect(page.getByText(/dravin-listener-search-tcp\.service/).first()).toBeVisible();
});

test("the huts: many, from one pool; the ledger knows each, and writes the zone", async ({ page }) => {
  await story(page, "huts");
  await expect(column(page, 1)).toContainText("and 7 more one to one");
  await expect(option(page)).toContainText("8 parties are mapped");
  await apply(page, /and 7 more/);
  await holds(page, "18 of 18");
  await place(page, "Ledger");
  await page.getByLabel(/Whose is it/).fill("10.223.3.9");
  await page.keyboard.press("Enter");
  await expect(page.getByTestId("names")).toContainText("elder sensor");
  await expect(page.getByTestId("names")).toContainText("192.168.211.9");
  await page.getByRole("combobox", { name: "Of, or as seen by" }).fill("Marrow");
  await page.getByRole("option", { name: "Marrow Hill" }).click();
  await expect(page.getByRole("region", { name: "What it dials" })).toContainText(/elder sensor\s*10\.223\.3\.9\s*mapped\s*192\.168\.211\.9/);
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: /Zone for Marrow Hill/ }).click();
  expect((await download).suggestedFilename()).toMatch(/\.zone$/);
  await accessible(page);
});

test("tenants reach shared services over two hubs, and their own traffic stays as it is", async ({ page }) => {
  await story(page, "tenants");
  await expect(column(page, 1)).toContainText("with a source pool");
  await expect(option(page)).toContainText("Pool");
  await apply(page, /with a source pool/);
  await holds(page, "5 of 5");
  await page.getByRole("button", { name: /asks its own store/ }).click();
  await expect(page.getByRole("region", { name: "Verdict" })).toContainText("at 10.216.2.10");
  await expect(page.locator('[data-act="maps source"]')).toHaveCount(0);
  await page.getByRole("button", { name: /Harrow asks the register/ }).click();
  await expect(page.locator('[data-way="There"] [data-act="maps source"]')).toContainText("hides the source behind the pool");
});

test("a hub's refusal is fixed by keeping a subnet out, and a source pool", async ({ page }) => {
  await story(page, "hub-refusal");
  await page.getByRole("button", { name: /^\d\. Keep what collides out of what is advertised to visitor hub refused/ }).click();
  await expect(option(page)).toContainText("still does not work");
  await apply(page, /with a source pool/);
  await holds(page, "2 of 2");
  await place(page, "Ledger");
  await expect(page.getByRole("region", { name: "Pools" })).toContainText("172.29.17.0/28");
});

test("a branch that collides with a network behind a circuit: two stages", async ({ page }) => {
  await story(page, "two-stages");
  await expect(column(page, 1)).toContainText("Translate in two stages");
  await apply(page, /two stages/);
  await holds(page, "1 of 1");
  await page.getByRole("button", { name: /the recorder files plates/ }).click();
  await expect(page.locator('[data-way="There"] [data-act="maps source"]')).toHaveCount(2);
  await expect(page.locator('[data-way="There"] [data-act="maps destination"]')).toContainText("192.168.216.40");
});

test("a machine is reached by a relay inside the caller's own range", async ({ page }) => {
  await story(page, "relay");
  await page.getByRole("button", { name: /^\d\. Relay to/ }).click();
  await expect(option(page)).toContainText("in Alder Hut hut itself");
  await apply(page, /Relay to/);
  await holds(page, "2 of 2");
  await page.getByRole("button", { name: /the panel reads the machine/ }).click();
  await expect(page.locator('[data-way="There"] [data-act="proxies"]')).toHaveCount(2);
});

test("two networks alike: boxes map them toward a hub, and stand between where a peering is refused", async ({ page }) => {
  await story(page, "hub-alike");
  await expect(column(page, 1)).toContainText("Map herbarium scans and plate archive one to one");
  await expect(option(page)).toContainText("put a translating box at");
  await apply(page, /Map herbarium scans and plate archive/);
  await holds(page, "3 of 3");
  await place(page, "Handover");
  await page.getByRole("button", { name: /^plate archive/ }).click();
  await expect(page.getByText(/translating-box\/nftables\.d\/dravin\.nft/).first()).toBeVisible();
  await story(page, "peers");
  await expect(column(page, 1)).toContainText("over two boxes in a network between");
  await apply(page, /network between/);
  await holds(page, "1 of 1");
});

test("a plan for all that collide at once, and for what somebody answers for", async ({ page }) => {
  await story(page, "huts");
  const who = page.getByRole("combobox", { name: "Who must talk" });
  await who.click();
  await page.getByRole("option", { name: /All that collide \(9 parties\)/ }).click();
  await expect(page.getByRole("button", { name: "and 5 more" })).toBeVisible();
  await expect(column(page, 1)).toBeVisible();
  await who.fill("marrow");
  await expect(page.getByRole("option")).toHaveCount(1);
  await page.getByRole("button", { name: "and 5 more" }).click();
  await expect(page.getByText(/^whoever holds/)).toBeVisible();
  // From rows that are chosen in the table.
  await page.goto(page.url().replace(/plan.*/, "estate?as=table"));
  await page.getByRole("textbox", { name: "Filter" }).fill("hut 192.168");
  for (const hut of ["Alder", "Birch"]) await page.getByRole("row", { name: new RegExp(hut) }).first().getByRole("checkbox").check();
  await page.getByRole("button", { name: "Plan how they talk" }).click();
  await expect(page.getByRole("button", { name: "Without Alder Hut hut" })).toBeVisible();
  await expect(compared(page)).toBeVisible();
});
