import { readFileSync } from "node:fs";
import { expect, test, type Page } from "@playwright/test";
import { accessible, place, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

/** Makes a design and opens it: a copy of the demo, or what a file says. */
async function begun(page: Page, body: object): Promise<string> {
  const made = await page.request.post("/api/designs", { data: { name: `Passes ${Date.now()}`, ...body } });
  expect(made.ok(), await made.text()).toBe(true);
  const { id } = (await made.json()) as { id: string };
  await page.goto(`/designs/${id}/passes`);
  return id;
}

const walked = async (page: Page, id: string, service: string) => {
  await page.goto(
    `/designs/${id}/proof?from=sample-exchange/counter/sample-clerk&to=field-notes/notes-a/notes-server&service=${service}`,
  );
  return page.getByRole("region", { name: "Verdict" });
};

test("a member from an open crossing to one service, with ping shut and the port open, and the reverse", async ({ page }) => {
  const id = await begun(page, { from: "demo" });
  await page.getByRole("button", { name: /^grove hub/ }).click();
  const door = page.getByRole("region", { name: "grove hub's door" });
  await expect(door).toContainText("needed by 1");
  await accessible(page);

  // Without its filter everything crosses, and that is told.
  await door.getByRole("button", { name: "Remove" }).click();
  await expect(page.getByText("No filter stands here")).toBeVisible();
  await expect(await walked(page, id, "icmp")).toContainText("works");
  await page.goto(`/designs/${id}/passes?view=crossings`);
  await expect(page.locator('[data-cell="members to science"]')).toContainText("no filter");

  // A filter that begins with what intents need, and with nothing else.
  await page.goto(`/designs/${id}/passes`);
  await page.getByRole("combobox", { name: "Look at" }).fill("grove hub");
  await page.getByRole("option", { name: /grove hub/ }).first().click();
  await page.getByRole("region", { name: "Where a filter can be" }).getByRole("button", { name: /grove hub/ }).click();
  await expect(page.getByText("everything that intents need passes")).toBeVisible();
  await expect(await walked(page, id, "tcp/443")).toContainText("works");
  await expect(await walked(page, id, "icmp")).toContainText("refuses icmp/echo");
  await expect(page.getByRole("table").first()).toContainText("by a crossing");

  // The reverse: ping open, and the port shut.
  await page.goto(`/designs/${id}/passes`);
  await page.getByRole("button", { name: /^grove hub/ }).click();
  await page.getByRole("button", { name: "Paste rules" }).first().click();
  const paste = page.getByRole("dialog", { name: "Paste rules" });
  await paste.getByRole("textbox").fill("action,protocol,port,source,destination\nallow,icmp,,10.217.0.0/20,any\nallow,tcp,what,any,any");
  await expect(paste.getByRole("status")).toContainText("1 rule, 1 not understood");
  await paste.getByRole("button", { name: "Bring in 1" }).click();
  await expect(paste).toBeHidden();
  await expect(page.getByText("that intents need is refused")).toBeVisible();
  await expect(await walked(page, id, "icmp")).toContainText("works");
  await expect(await walked(page, id, "tcp/443")).toContainText("refuses tcp/443");
  await page.getByRole("link", { name: "See what may pass there" }).click();
  await expect(page.locator('[data-standing="missing"]')).toContainText("sample clerk reads the notes");
});

test("the host whose filter names the old range", async ({ page }) => {
  const file = readFileSync("../demo/cases/filter-names-old-range.yaml", "utf8");
  await begun(page, { from: "file", file });
  await place(page, "Plan");
  await page.getByRole("button", { name: "All that do not hold" }).click();
  const options = page.getByRole("table", { name: "Options side by side" });
  await expect(options).toBeVisible();
  await expect(page.getByText("the filter logger's own allows tcp/6514 from 10.223.0.17").first()).toBeVisible();
  await options.getByRole("button", { name: /^Apply/ }).first().click();
  await expect(page.getByText("Applied:")).toBeVisible();
  await place(page, "Passes");
  await page.getByRole("button", { name: /^catalogue/ }).click();
  await expect(page.getByRole("region", { name: "logger's own" })).toContainText("10.223.0.17");
  await expect(page.getByText("everything that intents need passes")).toBeVisible();
});

test("a site is opened to a cloud by intents alone", async ({ page }) => {
  const text = [
    "site Old Orangery with lan glasshouse 192.168.216.0/24, gateway 203.0.113.10",
    "network catalogue in Tarn 10.208.0.0/20, subnet shelf 10.208.0.0/24",
    "host controller in Old Orangery glasshouse 192.168.216.10 answers tcp/502",
    "host logger in catalogue shelf 10.208.0.20 answers tcp/6514",
    "join Old Orangery and catalogue by vpn",
    'filter "gateway\'s" with at old-orangery/gateway',
    'filter "controller\'s own" with at old-orangery/glasshouse/controller',
    "Old Orangery glasshouse must reach catalogue shelf logger on tcp/6514",
    "catalogue shelf must reach Old Orangery glasshouse controller on tcp/502",
  ].join("\n");
  const id = await begun(page, { from: "nothing" });
  const heard = (await (await page.request.post(`/api/designs/${id}/say`, { data: { text } })).json()) as {
    edits: unknown[];
    lines: unknown[];
  };
  expect(heard.edits.length, JSON.stringify(heard.lines)).toBeGreaterThan(8);
  await page.request.post(`/api/designs/${id}/changes`, { data: { base: 0, reason: "said", edits: heard.edits } });
  await page.goto(`/designs/${id}/passes`);
  await expect(page.getByText("things that intents need are refused")).toBeVisible();
  await page.getByRole("button", { name: "Work out from intents" }).click();
  const worked = page.getByRole("dialog", { name: "Rules from the intents" });
  await expect(worked).toContainText("+ allows tcp/502 from 10.208.0.0/24 to 192.168.216.10");
  await worked.getByRole("button", { name: "Apply to 2 filters" }).click();
  await expect(worked).toBeHidden();
  await expect(page.getByText("everything that intents need passes")).toBeVisible();
  await place(page, "Proof");
  await expect(page.getByText("Intents: 2 of 2 hold")).toBeVisible();
  await place(page, "Passes");
  await page.getByRole("button", { name: /needed by 1/ }).first().click();
  await page.locator('[data-standing="needed"]').first().getByRole("link").click();
  await expect(page.getByRole("region", { name: "Verdict" })).toContainText("works");
});

test("crossings are edited in the matrix", async ({ page }) => {
  await begun(page, { from: "demo" });
  await page.getByRole("button", { name: "Crossings between segments" }).click();
  const cell = (name: string) => page.locator(`[data-cell="${name}"]`);
  await expect(cell("members to science")).toContainText("at grove hub");
  await cell("grounds to visitors").getByRole("combobox").selectOption("one way");
  await expect(cell("grounds to visitors").getByRole("combobox")).toHaveValue("one-way");
  await expect(cell("grounds to visitors")).toContainText("Old Orangery gateway");
  await expect(cell("visitors to grounds")).toContainText("answers only");
  await accessible(page);
  await page.reload();
  await cell("grounds to visitors").getByRole("combobox").selectOption("nothing");
  await expect(cell("visitors to grounds").getByRole("combobox")).toHaveValue("");
});
