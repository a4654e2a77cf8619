import { expect, test, type Page } from "@playwright/test";
import { accessible, place, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

const options = (page: Page) => page.getByRole("table", { name: "Options side by side" });

/** Makes a design of what is said, and opens its plan. */
async function said(page: Page, lines: string[]): Promise<string> {
  const { id } = (await (
    await page.request.post("/api/designs", { data: { from: "nothing", name: `Said ${Date.now()}` } })
  ).json()) as { id: string };
  const heard = (await (
    await page.request.post(`/api/designs/${id}/say`, { data: { text: lines.join("\n") } })
  ).json()) as { edits: unknown[]; lines: unknown[] };
  expect(heard.edits.length, JSON.stringify(heard.lines)).toBeGreaterThan(0);
  const done = await page.request.post(`/api/designs/${id}/changes`, { data: { base: 0, reason: "said", edits: heard.edits } });
  expect(done.ok()).toBe(true);
  await page.goto(`/designs/${id}/plan`);
  return id;
}

async function applied(page: Page, all: string): Promise<void> {
  await expect(page.getByText("Applied:")).toBeVisible();
  await place(page, "Proof");
  await expect(page.getByText(`Intents: ${all} hold`)).toBeVisible();
}

const gardens = `site Old Orangery with lan glasshouse 192.168.216.0/24, gateway 203.0.113.10
site Peatside Nursery with lan glasshouse 192.168.216.0/24, gateway 203.0.113.11
network catalogue in Tarn 10.208.0.0/20, subnet shelf 10.208.0.0/24
host controller in Old Orangery glasshouse 192.168.216.10 answers tcp/502
host panel in Peatside Nursery glasshouse 192.168.216.10 answers tcp/443
host logger in catalogue shelf 10.208.0.20 answers tcp/6514
Old Orangery glasshouse must reach Peatside Nursery glasshouse panel on tcp/443
Peatside Nursery glasshouse must reach catalogue shelf logger on tcp/6514
catalogue shelf must reach Old Orangery glasshouse controller on tcp/502`;

test("the new user's hour: from an empty page to proven files for two colliding gardens and a network", async ({ page }) => {
  let actions = 0;
  const act = async (a: () => Promise<unknown>) => {
    actions++;
    await a();
  };
  await page.goto("/");
  await act(() => page.getByLabel("Its name").fill(`Gardens ${Date.now()}`));
  await act(() => page.keyboard.press("Enter"));
  await expect(page.getByRole("heading", { name: "Nothing here yet" })).toBeVisible();
  const say = page.getByLabel("Say", { exact: true });
  await act(() => say.click());
  await act(() => page.keyboard.insertText(gardens));
  await expect(page.getByRole("region", { name: "Say it" })).toContainText("New site Old Orangery");
  await act(() => page.keyboard.press("Enter"));
  await expect(say).toHaveValue("");
  await act(() => place(page, "Plan"));
  await act(() => page.getByRole("button", { name: "All that do not hold" }).click());
  await expect(options(page)).toBeVisible();
  await expect(page.getByText("Not joined yet:")).toContainText("catalogue and Old Orangery");
  await accessible(page);
  await act(() => options(page).getByRole("button", { name: /^Apply/ }).first().click());
  await expect(page.getByText("Applied:")).toBeVisible();
  expect(actions, "actions").toBeLessThanOrEqual(12);
  await place(page, "Proof");
  await expect(page.getByText("Intents: 3 of 3 hold")).toBeVisible();
  await place(page, "Handover");
  await page.getByRole("button", { name: /^Old Orangery/ }).click();
  await page.getByRole("button", { name: /dravin\.nft/ }).click();
  await expect(page.getByTestId("file")).toContainText("192.168.216.0/24");
  await page.getByRole("button", { name: "Undo" }).click();
  await place(page, "Proof");
  await expect(page.getByText("Intents: 0 of 3 hold")).toBeVisible();
});

test("three networks and a site meet in a hub, each entered at all", async ({ page }) => {
  await said(page, [
    ...["catalogue 10.208", "herbarium-scans 10.209", "plate-store 10.210"].map((x) => {
      const [name, net] = x.split(" ");
      return `network ${name} in Tarn ${net}.0.0/20, subnet racks ${net}.0.0/24, host server ${net}.0.9 answers tcp/443`;
    }),
    "site Saltmarsh Station with lan laboratory 10.213.16.0/24, host recorder 10.213.16.9 answers tcp/443, gateway 203.0.113.40",
    "hub Tarn hub in Tarn tarn-north",
    "catalogue racks must reach recorder on tcp/443",
    "plate-store racks must reach herbarium-scans racks server on tcp/443",
    "recorder must reach plate-store racks server on tcp/443",
  ]);
  await page.getByRole("button", { name: "All that do not hold" }).click();
  await page.getByText("What is fixed").click();
  await page.getByRole("checkbox", { name: "a hub" }).check();
  await page.keyboard.press("Escape");
  await expect(options(page).getByRole("columnheader", { name: /by a hub/ }).first()).toContainText("an answer");
  await options(page).getByRole("columnheader", { name: /by a hub/ }).first().getByRole("button", { name: /^Apply/ }).click();
  await applied(page, "3 of 3");
});

test("two clouds meet over an exchange", async ({ page }) => {
  await said(page, [
    "network catalogue in Tarn 10.208.0.0/20, subnet shelf 10.208.0.0/24, host logger 10.208.0.20 answers tcp/6514",
    "network sequencing in Osier 10.209.0.0/20, subnet racks 10.209.0.0/24, host reader 10.209.0.20 answers tcp/443",
    "edge-router Millrace asn next",
    "logger must reach reader on tcp/443",
    "reader must reach logger on tcp/6514",
  ]);
  await page.getByRole("button", { name: "All that do not hold" }).click();
  await options(page).getByRole("columnheader", { name: /by circuits/ }).first().getByRole("button", { name: /^Apply/ }).click();
  await applied(page, "2 of 2");
});

test("a partner whose range collides is let in to one service", async ({ page }) => {
  await said(page, [
    "site Ashcombe Herbarium with lan reading room 10.219.0.0/24, host desk 10.219.0.9, gateway 203.0.113.90",
    "network sequencing in Osier 10.219.0.0/20, subnet racks 10.219.0.0/24, host search 10.219.0.20 answers tcp/8443",
    "desk must reach search on tcp/8443",
    "search must never reach desk",
  ]);
  await page.getByRole("button", { name: /desk reaches/ }).click();
  await expect(options(page).getByRole("button", { name: /^Apply/ }).first()).toBeVisible();
  await options(page).getByRole("button", { name: /^Apply/ }).first().click();
  await applied(page, "2 of 2");

  // What must never work, and does not, is as it should be: nothing is offered that would let it through.
  await page.goto(page.url().replace(/\/plan.*/, "/proof"));
  await page.getByRole("button", { name: /must never work/ }).click();
  const verdict = page.getByRole("region", { name: "Verdict" });
  await expect(verdict).toContainText("kept apart");
  await expect(verdict).not.toContainText("Fix:");
  await expect(page.getByRole("button", { name: "What would let it through" })).toHaveCount(0);
});

test("a second circuit is the fix of a single one", async ({ page, request }) => {
  const { id } = (await (await request.post("/api/designs", { data: { from: "demo" } })).json()) as { id: string };
  const links = (await (await request.get(`/api/designs/${id}/links`)).json()) as { id: string; name: string }[];
  const second = links.find((x) => x.name === "herbarium scans circuit 2")?.id ?? "";
  const gone = (await (await request.get(`/api/designs/${id}/removal?object=${second}`)).json()) as { edits: unknown[] };
  await request.post(`/api/designs/${id}/changes`, { data: { base: 0, reason: "one alone", edits: gone.edits } });
  await page.goto(`/designs/${id}/estate?panel=findings`);
  const finding = page.getByRole("article").filter({ hasText: "is the only circuit there" }).first();
  await finding.getByRole("button", { name: "Work out fixes" }).first().click();
  await finding.getByRole("button", { name: /A second circuit beside/ }).first().click();
  await expect(page.getByRole("article").filter({ hasText: "herbarium scans circuit 1 is the only circuit" })).toHaveCount(0);
});

test("a plan is broken off, asked by another wish, and tells what can not be", async ({ page, request }) => {
  const { id } = (await (await request.post("/api/designs", { data: { from: "demo" } })).json()) as { id: string };
  await page.route(/plan\/steps/, async (route) => {
    await new Promise((done) => setTimeout(done, 1500));
    await route.continue().catch(() => undefined);
  });
  await page.goto(`/designs/${id}/plan`);
  const who = page.getByRole("combobox", { name: "Who must talk" });
  await who.fill("all");
  await who.fill("hut");
  await page.getByRole("option", { name: /All that are called/ }).click();
  await page.getByRole("button", { name: "Break it off" }).click();
  await expect(page.getByText("Broken off; nothing was changed.")).toBeVisible();
  await page.getByRole("button", { name: "Plan again" }).click();
  await expect(page.getByTestId("progress")).toBeVisible();
  await expect(options(page)).toBeVisible();
  await page.getByRole("radio", { name: "Cheapest" }).click();
  await expect(page).toHaveURL(/wish=cheapest/);
  await expect(options(page)).toBeVisible();
});
