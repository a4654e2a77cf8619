import { expect, test, type Page } from "@playwright/test";
import { accessible, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

const there = `site Old Orangery with lan glasshouse 10.212.4.0/24, gateway 203.0.113.10
site Peatside Nursery with lan bench 10.212.12.0/24, gateway 203.0.113.11
host controller in Old Orangery glasshouse 10.212.4.4 answers tcp/502
host panel in Peatside Nursery bench 10.212.12.4 answers tcp/443
Old Orangery glasshouse must reach Peatside Nursery bench panel on tcp/443`;

/** Says lines of the plan, or of what is there. */
async function say(page: Page, id: string, text: string, side?: string): Promise<void> {
  const heard = (await (await page.request.post(`/api/designs/${id}/say`, { data: { text } })).json()) as {
    edits: { side?: string }[];
  };
  const info = (await (await page.request.get(`/api/designs/${id}`)).json()) as { position: number };
  const edits = heard.edits.map((e) => (side ? { ...e, side } : e));
  const done = await page.request.post(`/api/designs/${id}/changes`, {
    data: { base: info.position, reason: text.split("\n")[0], edits, change: "new" },
  });
  expect(done.ok(), await done.text()).toBe(true);
}

const change = (page: Page, title: string) => page.getByTestId("change").filter({ hasText: title });

test("what is there, what is planned, and the work between them as changes: one done, one set aside", async ({ page }) => {
  const { id } = (await (
    await page.request.post("/api/designs", { data: { from: "nothing", name: `Worked ${Date.now()}` } })
  ).json()) as { id: string };
  await say(page, id, there, "both");
  await page.goto(`/designs/${id}/handover?as=changes`);
  await expect(page.getByText("What is built is what is planned.")).toBeVisible();

  // A plan is applied: today is as it was, and the plan is one change.
  await page.goto(`/designs/${id}/plan`);
  await page.getByRole("button", { name: /Old Orangery glasshouse reaches/ }).click();
  const options = page.getByRole("table", { name: "Options side by side" });
  await options.getByRole("button", { name: /^Apply/ }).first().click();
  await expect(page.getByText("Applied:")).toBeVisible();
  await page.goto(`/designs/${id}/proof?when=today`);
  await expect(page.getByText("Intents: 0 of 1 hold today")).toBeVisible();

  // Something else is planned beside it, and both are listed with what they do and are for.
  await say(page, id, "site Alder Hut with lan shed 10.212.61.0/24");
  await page.goto(`/designs/${id}/handover?as=changes`);
  await expect(page.getByRole("heading", { name: "2 changes to do" })).toBeVisible();
  const joined = page.getByTestId("change").filter({ hasText: "For Old Orangery" });
  await expect(joined).toBeVisible();
  await expect(change(page, "site Alder Hut")).toContainText("It makes Alder Hut");
  await joined.getByRole("button").first().click();
  await expect(joined).toContainText("1 of 1 intents hold");
  await accessible(page);

  // The one is set aside; the steps of the other are done one by one, and today follows.
  await change(page, "site Alder Hut").getByRole("button", { name: "Set aside" }).click();
  await expect(page.getByRole("heading", { name: "Set aside" })).toBeVisible();
  await joined.getByRole("link", { name: "Its steps" }).click();
  const steps = page.getByTestId("step");
  await expect(steps.first()).toContainText("1.");
  const second = await steps.nth(1).innerText();
  await steps.first().getByRole("button", { name: "Done" }).click();
  await expect(page.getByRole("heading", { name: "Done", exact: true })).toBeVisible();
  expect(await steps.first().innerText(), "what is left says what it said").toBe(second);
  await page.getByRole("button", { name: "Not done" }).first().click();
  await expect(steps.first()).toContainText("1.");
  for (let left = await steps.count(); left > 0; left--) {
    await expect(steps).toHaveCount(left);
    await steps.first().getByRole("button", { name: "Done" }).click();
  }
  await expect(page.getByText("All of it that can be done now is done.")).toBeVisible();
  await page.goto(`/designs/${id}/proof?when=today`);
  await expect(page.getByText("Intents: 1 of 1 hold today")).toBeVisible();

  // What was set aside comes back as it was.
  await page.goto(`/designs/${id}/handover?as=changes`);
  await expect(page.getByRole("heading", { name: "Built" })).toBeVisible();
  await change(page, "site Alder Hut").getByRole("button", { name: "Take up again" }).click();
  await expect(page.getByRole("heading", { name: "1 change to do" })).toBeVisible();
  await expect(change(page, "site Alder Hut")).toContainText("It makes Alder Hut");
});

test("what somebody works on takes what is edited, until they stop", async ({ page }) => {
  const { id } = (await (
    await page.request.post("/api/designs", { data: { from: "nothing", name: `Working ${Date.now()}` } })
  ).json()) as { id: string };
  await say(page, id, "site Alder Hut with lan shed 10.212.61.0/24");
  await page.goto(`/designs/${id}/handover?as=changes`);
  await change(page, "site Alder Hut").getByRole("button", { name: "Work on it" }).click();
  await expect(page.getByRole("status").filter({ hasText: "What you change is part of" })).toBeVisible();
  await page.goto(`/designs/${id}/estate`);
  const line = page.getByLabel("Say", { exact: true });
  await line.fill("site Fern Lodge with lan house 10.212.62.0/24");
  await expect(page.getByRole("region", { name: "Say it" })).toContainText("New site Fern Lodge");
  await line.press("Enter");
  await expect(line).toHaveValue("");
  await page.goto(`/designs/${id}/handover?as=changes`);
  await expect(page.getByTestId("change")).toHaveCount(1);
  await expect(page.getByTestId("change")).toContainText("Fern Lodge");
  await change(page, "Alder Hut").getByRole("button", { name: "Title and what it is for" }).or(change(page, "Alder Hut").getByRole("button").first()).first().click();
  await page.getByRole("button", { name: "Title and what it is for" }).click();
  await page.getByLabel("Title", { exact: true }).fill("Two huts");
  await page.getByLabel("What it is for", { exact: true }).fill("the tools need a roof");
  await page.getByRole("button", { name: "Save" }).click();
  await expect(change(page, "Two huts")).toContainText("the tools need a roof");
  await page.getByRole("button", { name: "Stop working on it" }).first().click();
  await change(page, "Two huts").getByRole("button", { name: "Take back" }).click();
  await expect(page.getByRole("heading", { name: "Taken back" })).toBeVisible();
});
