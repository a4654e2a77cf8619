import { expect, test, type Page } from "@playwright/test";
import { accessible, place, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

/** Counts what a person does: a click, a key, a text typed or pasted in one go. */
function counted() {
  let n = 0;
  return {
    do: async (act: () => Promise<unknown>) => {
      n++;
      await act();
    },
    get n() {
      return n;
    },
  };
}

const estate = [
  "site Marrow Hill with lan data room 10.214.0.0/22, lan museum store 192.168.216.0/24, gateway 198.51.100.10",
  "site Peatside Nursery with lan glasshouse 192.168.216.0/24 fixed, host controller 192.168.216.17 answers tcp/502, lan offices 10.214.16.0/24, gateway 203.0.113.20",
  "network catalogue in Tarn 10.208.0.0/16, subnet shelf a /24, host logger answers tcp/6514",
];

async function empty(page: Page, act: (a: () => Promise<unknown>) => Promise<void>): Promise<void> {
  await page.goto("/");
  await act(() => page.getByLabel("Its name").fill(`Gardens ${Date.now()}`));
  await act(() => page.keyboard.press("Enter"));
  await expect(page.getByRole("heading", { name: "Nothing here yet" })).toBeVisible();
}

test("an estate is typed from an empty page, joined, asked of, and its collision fixed", async ({ page }) => {
  const c = counted();
  await empty(page, c.do);
  await accessible(page);
  const say = page.getByLabel("Say", { exact: true });
  const said = page.getByRole("region", { name: "Say it" });
  await c.do(() => say.click());
  for (const line of estate) {
    await c.do(() => page.keyboard.insertText(line));
    await expect(said).toContainText("New");
    await c.do(() => page.keyboard.press("Enter"));
    await expect(say).toHaveValue("");
  }
  await expect(page.getByRole("button", { name: "site Peatside Nursery" })).toBeVisible();
  await c.do(() => page.keyboard.insertText("join Marrow Hill with catalogue, Peatside Nursery by vpn"));
  await expect(said).toContainText("192.168.216.0/24 of Marrow Hill overlaps 192.168.216.0/24 of Peatside Nursery");
  await c.do(() => page.keyboard.press("Enter"));
  await expect(say).toHaveValue("");
  // Three intents at once, and a word that is wrong is pointed at.
  await c.do(() => page.keyboard.insertText("logger must reach controler\nMarrow Hill data room must reach controller\ncontroller must reach logger"));
  await expect(said).toContainText("is called that");
  await c.do(() => say.fill("logger must reach controller\nMarrow Hill data room must reach controller\ncontroller must reach logger"));
  await expect(said).toContainText("New intent: catalogue logger reaches Peatside Nursery controller on tcp/502");
  await accessible(page);
  await c.do(() => page.keyboard.press("Enter"));
  await c.do(() => place(page, "Proof"));
  await expect(page.getByText("Intents: 0 of 3 hold")).toBeVisible();
  await c.do(() => place(page, "Overlaps"));
  await c.do(() => page.getByRole("link", { name: "Plan what would work" }).click());
  await c.do(() => page.getByRole("button", { name: /^Apply/ }).first().click());
  await expect(page.getByText("Applied:")).toBeVisible();
  await c.do(() => place(page, "Proof"));
  await expect(page.getByText("Intents: 3 of 3 hold")).toBeVisible();
  expect(c.n, "actions").toBeLessThan(25);
});

test("an estate is made by pointing: forms suggest, copies come with free ranges, removals say what goes", async ({ page }) => {
  await page.goto("/");
  await page.getByLabel("Its name").fill(`Lodges ${Date.now()}`);
  await page.getByRole("button", { name: "Begin" }).click();
  const dialog = page.getByRole("dialog");
  const sheet = page.getByRole("complementary", { name: "Sheet" });
  const add = async (kind: string, name?: string) => {
    await sheet.getByRole("button", { name: `Add ${kind}`, exact: true }).click();
    await expect(dialog.getByRole("button", { name: "Add", exact: true })).toBeVisible();
    if (name) await dialog.getByLabel("name *").fill(name);
  };
  const store = async () => {
    await dialog.getByRole("button", { name: "Add", exact: true }).click();
    await expect(dialog).toHaveCount(0);
  };
  await page.getByRole("button", { name: "Add a site" }).click();
  await dialog.getByLabel("name *").fill("Fern Lodge");
  await store();
  await add("LAN", "offices");
  const range = dialog.getByRole("combobox", { name: "prefixes 1" });
  await expect(range).toHaveValue(/\/24$/); // what is suggested; it is another here
  await range.fill("10.214.64.0/24");
  await dialog.getByLabel("name *").click();
  await dialog.getByRole("button", { name: "cannot change" }).click();
  await dialog.getByRole("checkbox", { name: "cannot change" }).check();
  await accessible(page);
  await store();
  await sheet.getByRole("button", { name: "Add host" }).click();
  await expect(dialog.getByRole("combobox", { name: "addresses 1" })).toHaveValue("10.214.64.10");
  await store();
  await page.getByRole("button", { name: "site Fern Lodge" }).click();
  await add("gateway");
  await dialog.getByRole("button", { name: "Add to addresses" }).click();
  await dialog.getByRole("textbox", { name: "addresses 1" }).fill("203.0.113.9");
  await store();

  // Another like it: what is fixed keeps its range, so the two collide.
  await page.getByRole("button", { name: "site Fern Lodge" }).click();
  await sheet.getByRole("button", { name: "More like this" }).click();
  await dialog.getByRole("button", { name: "Make it" }).click();
  await expect(page.getByRole("button", { name: "site Fern Lodge 1" })).toBeVisible();

  // A cloud network by the menu, its cloud and range suggested.
  await page.getByRole("button", { name: "Add", exact: true }).click();
  await page.getByRole("menuitem", { name: "network" }).click();
  await dialog.getByLabel("name *").fill("seed store");
  await dialog.getByRole("combobox", { name: "cloud" }).click();
  await page.getByRole("option", { name: /Tarn/ }).click();
  await store();
  await expect(page.getByRole("button", { name: "network seed store" })).toBeVisible();

  // An intent from the sheet's own parts, by search.
  await place(page, "Proof");
  await page.getByRole("button", { name: "Add an intent" }).click();
  await dialog.getByRole("combobox", { name: "from" }).fill("fern lodge off");
  await page.getByRole("option", { name: /Fern Lodge offices/ }).first().click();
  await dialog.getByRole("combobox", { name: "to", exact: true }).fill("seed");
  await page.getByRole("option", { name: /seed store/ }).first().click();
  await dialog.getByRole("button", { name: "never", exact: true }).click();
  await dialog.getByRole("checkbox", { name: "never" }).check();
  await store();
  await expect(page.getByText("Intents: 1 of 1 hold")).toBeVisible();

  // Removing says what goes along, once.
  await place(page, "Estate");
  await page.getByRole("button", { name: "site Fern Lodge", exact: true }).click();
  await sheet.getByRole("button", { name: "Remove it" }).click();
  const ask = page.getByRole("alertdialog");
  await expect(ask).toContainText("intent");
  await expect(ask).toContainText("it needs Fern Lodge offices");
  await accessible(page);
  await ask.getByRole("button", { name: "Remove all of it" }).click();
  await expect(page.getByRole("button", { name: "site Fern Lodge", exact: true })).toHaveCount(0);
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByRole("button", { name: "site Fern Lodge", exact: true })).toBeVisible();
});

test("an estate is made by keys alone, from the palette and the bar", async ({ page }) => {
  await page.goto("/");
  await page.getByLabel("Its name").focus();
  await page.keyboard.type(`Keys ${Date.now()}`);
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "Nothing here yet" })).toBeVisible();
  // Who types fast says the next thing before the write of the one before is answered.
  await page.route("**/changes", async (route) => {
    await new Promise((done) => setTimeout(done, 700));
    await route.continue();
  });
  for (const [typed, does] of [
    ["site Fern Lodge with lan 10.214.1.0/24, gateway 203.0.113.9", "New site Fern Lodge"],
    ["site Reed Lodge with lan 10.214.2.0/24, gateway 203.0.113.10", "New site Reed Lodge"],
    ["join Fern Lodge and Reed Lodge by vpn-selectors", "Join Fern Lodge with Reed Lodge"],
    ["Fern Lodge lan must reach Reed Lodge lan on tcp/443", "New intent"],
  ] as const) {
    await page.keyboard.press("Control+k");
    await page.keyboard.insertText(typed);
    await expect(page.getByRole("option", { name: new RegExp(does) })).toBeVisible();
    await page.keyboard.press("Enter");
    await expect(page.getByRole("dialog")).toHaveCount(0);
  }
  await page.keyboard.press("7");
  await expect(page.getByText("Intents: 1 of 1 hold")).toBeVisible();
  await page.unroute("**/changes");
  await page.keyboard.press("Control+z");
  await expect(page.getByText("No intents yet")).toBeVisible();
  // Tab completes; an unfinished word is completed to what may stand there.
  await page.keyboard.press("Control+k");
  await page.keyboard.type("remove Reed L");
  await expect(page.getByRole("dialog").getByRole("button", { name: /Reed Lodge/ }).first()).toBeVisible();
  await page.keyboard.press("Tab");
  await expect(page.getByRole("dialog").getByRole("combobox")).toHaveValue("remove Reed Lodge ");
  await page.keyboard.press("Escape");
  // In the picture: find by /, open with Enter, zoom and pan.
  await page.keyboard.press("1");
  await page.getByRole("region", { name: "Picture" }).focus();
  await page.keyboard.press("/");
  await page.keyboard.type("reed");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("complementary", { name: "Sheet" })).toContainText("Reed Lodge");
  await page.getByRole("region", { name: "Picture" }).focus();
  for (const key of ["+", "ArrowDown", "-", "0"]) await page.keyboard.press(key);
});

test("designs are renamed, copied and compared", async ({ page, request }) => {
  const name = `Orchard ${Date.now()}`;
  await request.post("/api/designs", { data: { from: "nothing", name } });
  await page.goto("/");
  const row = page.getByRole("listitem").filter({ has: page.getByRole("link", { name, exact: true }) });
  await row.getByRole("button", { name: "Copy" }).click();
  const copy = page.getByRole("listitem").filter({ has: page.getByRole("link", { name: `${name} copy` }) });
  await expect(copy).toBeVisible();
  await copy.getByRole("button", { name: "Rename" }).click();
  await page.getByLabel("New name").fill(`${name} at night`);
  await page.keyboard.press("Enter");
  await page.getByRole("link", { name: `${name} at night` }).click();
  await page.getByLabel("Say", { exact: true }).fill("site Fern Lodge");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("button", { name: "site Fern Lodge" })).toBeVisible();
  await page.goto("/");
  await page.getByLabel(`Compare ${name} at night with`).selectOption({ label: name });
  await expect(page.getByRole("dialog")).toContainText("1 are only in the first");
  await expect(page.getByRole("dialog")).toContainText("fern-lodge");
  await accessible(page);
});

test("many are joined with one head as one change, and what collides is translated at once", async ({ page, request }) => {
  const { id } = (await (await request.post("/api/designs", { data: { from: "demo" } })).json()) as { id: string };
  let arrive = () => {};
  const late = new Promise<void>((done) => (arrive = done));
  await page.route(/\/estate(\?|$)/, async (r) => {
    if (r.request().resourceType() === "fetch") await late;
    await r.continue();
  });
  await page.goto(`/designs/${id}/plan`);
  const who = page.getByRole("combobox", { name: "Who must talk" });
  await who.fill("hut");
  await expect(page.getByText("Nothing fits.")).toBeVisible();
  arrive(); // the names come only now
  await page.getByRole("option", { name: /All that are called “hut” \(9 parties\)/ }).click();
  await who.fill("marrow hill");
  await who.press("Enter");
  await expect(page.getByRole("button", { name: "and 6 more" })).toBeVisible();
  const table = page.getByRole("table", { name: "Options side by side" });
  await expect(table).toBeVisible();
  await accessible(page);
  await table.getByRole("button", { name: /^Apply/ }).first().click();
  await expect(page.getByText("Applied:")).toBeVisible();
});
