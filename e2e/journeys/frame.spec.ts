import { expect, test } from "@playwright/test";
import { accessible, contrasting, legible, openCase, place, settled, strict, trust } from "./page";

test.beforeEach(({ page }) => strict(page));

const places = ["Estate", "Overlaps", "Plan", "Links", "Routes", "Ledger", "Proof", "Passes", "Handover"];

for (const [width, height] of [
  [1024, 700],
  [1280, 800],
  [2560, 1300],
] as const) {
  test(`nothing is cut off at ${width} by ${height}`, async ({ page }) => {
    await page.setViewportSize({ width, height });
    await openCase(page);
    for (const name of places) {
      await place(page, name);
      await expect(page.getByRole("link", { name })).toHaveAttribute("aria-current", "page");
      await settled(page);
      const beyond = await page.evaluate(() => ({
        page: document.documentElement.scrollWidth - innerWidth,
        header: [...(document.querySelector("header")?.querySelectorAll("a, button, span") ?? [])].filter((e) => {
          const box = e.getBoundingClientRect();
          return box.right > innerWidth + 1 || box.bottom > 60;
        }).length,
      }));
      expect(beyond, name).toEqual({ page: 0, header: 0 });
    }
  });
}

for (const colorScheme of ["light", "dark"] as const) {
  test.describe(colorScheme, () => {
    test.use({ colorScheme });
    test("every place and way of looking is accessible", async ({ page, request }) => {
      test.slow(); // axe looks at every element of twenty pages, and minutes are long on a machine that is shared
      const { id, of } = await trust(request);
      await page.goto("/");
      await expect(page.getByRole("heading", { name: "Designs" })).toBeVisible();
      const look = () => (colorScheme === "light" ? legible(page) : contrasting(page));
      await look();
      for (const [path, shows] of [
        [`estate?sel=${of.get("Marrow Hill")}`, "herbarium building"],
        ["estate?as=table", "of 72 rows"],
        ["estate?as=import", "paste it"],
        ["overlaps", "Conflicts, worst first"],
        ["links", "asks to join|agrees|beware"],
        ["links?as=study&cloud=Tarn", "When does a hub pay"],
        ["links?as=profiles", "dravin-profile"],
        ["plan", "Who must talk?"],
        [`plan?party=${of.get("Old Orangery")},${of.get("Peatside Nursery")}`, "When the next comes"],
        ["ledger", "Published services"],
        ["proof", "Intents: 5 of 8"],
        ["passes", "grove hub's door"],
        ["passes?view=crossings", "at grove hub"],
        ["routes", "every source"],
        ["routes?as=limits", "routes in a table"],
        ["proof?as=rehearsal", "Rehearse"],
        ["handover", "For whom"],
        ["handover?as=runbook", "intents hold today|Before the window"],
        ["estate?panel=findings", "museum store"],
        ["estate?panel=palette", "Go to Estate"],
      ] as const) {
        await page.goto(`/designs/${id}/${path}`);
        await expect(page.getByText(new RegExp(shows.replace("72", "\\d+"))).first()).toBeAttached();
        await settled(page);
        await look();
      }
    });
  });
}

test("the whole case by keys alone", async ({ page }) => {
  await openCase(page);
  const enter = async (role: "button" | "link", name: string | RegExp) => {
    await page.getByRole(role, { name }).first().focus();
    await page.keyboard.press("Enter");
  };
  await enter("button", /^Collision/);
  await expect(page).toHaveURL(/overlaps\?group=/);
  await enter("link", "Plan what would work");
  await expect(page).toHaveURL(/plan\?group=/);
  await enter("button", /^Apply/);
  await expect(page.getByText("Answered:")).toBeVisible();
  await page.keyboard.press("7");
  await expect(page.getByText("Intents: 3 of 3 hold")).toBeVisible();
  await page.keyboard.press("Control+z");
  await expect(page.getByText("Intents: 0 of 3 hold")).toBeVisible();
  await page.keyboard.press("Control+k");
  await page.keyboard.type("go to hand");
  await expect(page.getByRole("option", { name: /Go to Handover/ })).toBeVisible();
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/handover/);
});

test("a stale browser is told what changed, and nothing of its change is stored", async ({ page, request }) => {
  await openCase(page);
  const id = page.url().split("/")[4] ?? "";
  await place(page, "Plan");
  await page.getByRole("button", { name: "All that do not hold" }).click();
  await expect(page.getByRole("button", { name: /^Apply/ }).first()).toBeVisible();
  // The news never reaches this browser: what it shows stays as it was.
  await page.route(/\/api\/designs\//, (route) => (route.request().method() === "GET" ? undefined : route.continue()));
  const put = { op: "put", id: "yewhut", object: { id: "yewhut", kind: "site", name: "Yew Hut", body: {} } };
  const other = await request.post(`/api/designs/${id}/changes`, { data: { base: 0, reason: "Add Yew Hut", edits: [put] } });
  expect(other.ok()).toBe(true);
  await page.getByRole("button", { name: /^Apply/ }).first().click();
  await expect(page.getByText("Somebody changed this design meanwhile")).toBeVisible();
  await expect(page.getByText(/Add Yew Hut\. Look again/)).toBeVisible();
  const ledger = await request.get(`/api/designs/${id}/ledger`);
  expect(((await ledger.json()) as { ranges: unknown[] }).ranges).toEqual([]);
});

test("a place that is not there says so", async ({ page }) => {
  await page.goto("/gardens/none");
  await expect(page.getByText("There is nothing at this address")).toBeVisible();
  await page.goto("/designs/none/estate");
  await expect(page.getByRole("alert")).toContainText("there is no such design");
});
