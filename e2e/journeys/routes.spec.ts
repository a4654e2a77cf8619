import { expect, test } from "@playwright/test";
import { accessible, place, strict, trust } from "./page";

test.beforeEach(({ page }) => strict(page));

// From the sheet of a gateway to its table, to an entry, to why it won.
test("one table: filtered, and any entry tells its way and what lost", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/estate`);
  await page.getByRole("button", { name: "site Thornfield Station" }).click();
  await page.getByRole("button", { name: /^gateway ?gateway$/ }).first().click();
  await page.getByRole("link", { name: "Open under Routes" }).click();
  const table = page.getByRole("grid", { name: "Thornfield Station gateway" });
  await expect(table.getByRole("row", { name: /10\.210\.64\.0\/20/ }).first()).toContainText("Thornfield circuit");
  await page.getByRole("textbox", { name: "Prefix or address" }).fill("10.210.64.7");
  await page.getByRole("radio", { name: "covering" }).click();
  await expect(page.getByText("3 of 11 entries")).toBeVisible();
  await table.getByRole("row", { name: /10\.210\.64\.0\/20/ }).first().click();
  const why = page.getByRole("region", { name: "Why" });
  await expect(why).toContainText("seed logs circuit gateway: originated here");
  await expect(why).toContainText("what comes this way is preferred");
  await accessible(page);

  // A source, a party, something that is no prefix.
  await page.getByRole("textbox", { name: "Prefix or address" }).fill("");
  await page.getByRole("combobox", { name: "Source" }).selectOption("connected");
  await expect(table.getByRole("row", { name: /10\.215\.16\.0\/23/ })).toBeVisible();
  await page.getByRole("combobox", { name: "Source" }).selectOption("");
  await page.getByRole("combobox", { name: "Leads to" }).selectOption({ label: "to field exchange" });
  await expect(page.getByText("4 of 11 entries")).toBeVisible();
  await page.getByRole("textbox", { name: "Prefix or address" }).fill("10.300/8");
  await expect(page.getByRole("alert")).toContainText("is no prefix or address; write one such as");
});

test("one prefix, drawn over the estate: who has it, and where it stopped by which rule", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/routes?as=prefix`);
  await page.getByRole("combobox", { name: "Prefix" }).fill("10.215.16");
  await page.getByRole("option", { name: /10\.215\.16\.0\/23/ }).click();
  const list = page.getByRole("complementary", { name: "Where it is" });
  await expect(list).toContainText("no transit over a peering toward specimen loans");
  await expect(list).toContainText("no entry toward field notes table b");
  await expect(list).toContainText("not fed toward grove hub visitors");
  await expect(page.locator("svg").getByText("originated")).toBeVisible();
  await accessible(page);
  // An ASN met twice.
  await page.goto(`/designs/${id}/routes?as=prefix&prefix=10.210.16.0/20`);
  await expect(list).toContainText("loop check toward seed logs cloud gateway");
  // The hub keeps two segments apart.
  await page.goto(`/designs/${id}/routes?as=prefix&prefix=172.29.64.0/20`);
  await expect(list.getByRole("link", { name: "grove hub visitors" })).toBeVisible();
  await expect(list.getByRole("link", { name: "grove hub science" })).toHaveCount(0);
});

test("an entry withdrawn and published again, and both ends of a session", async ({ page, request }) => {
  const { id, of } = await trust(request);
  const science = async () => {
    const tables = (await (await request.get(`/api/designs/${id}/tables`)).json()) as { at: string; title: string }[];
    const at = tables.find((t) => t.title === "grove hub science")?.at ?? "";
    const got = (await (await request.get(`/api/designs/${id}/table?at=${at}`)).json()) as { rows: { prefix: string }[] };
    return got.rows.map((r) => r.prefix);
  };
  expect(await science()).toContain("10.215.16.0/23");
  const publish = async (to: string) => {
    await page.goto(`/designs/${id}/estate?sel=${of.get("seed logs")}`);
    await page.getByRole("button", { name: /^published ?table$/ }).click();
    await page.getByRole("button", { name: "Change routes 1, publish" }).click();
    await page.getByRole("textbox", { name: "routes 1, publish" }).fill(to);
    await page.keyboard.press("Enter");
  };
  await publish("withdrawn");
  await expect.poll(science).not.toContain("10.215.16.0/23");
  await publish("published");
  await expect.poll(science).toContain("10.215.16.0/23");

  await place(page, "Routes");
  await page.getByRole("radio", { name: "A session" }).click();
  await page.getByRole("button", { name: /Saltmarsh Station to image analysis, tunnel 1/ }).click();
  const tells = page.getByRole("region", { name: "What Saltmarsh Station gateway advertises" });
  await expect(tells).toContainText("10.209.0.0/16");
  await expect(tells).toContainText("filter going out");
  await expect(tells).toContainText("none of its 2 rules matches");
  await expect(page.getByRole("region", { name: "What image analysis twin gateway advertises" })).toContainText("taken, used");
  await accessible(page);
});

test("before and after: a failure, an undo, a draft and a fix show their routes", async ({ page, request }) => {
  const { id, of } = await trust(request);
  await page.goto(`/designs/${id}/routes?as=whatif`);
  await page.getByRole("combobox", { name: "Without" }).fill("Thornfield circuit");
  await page.getByRole("option", { name: /Thornfield circuit/ }).first().click();
  const after = page.getByRole("complementary", { name: "Before and after" });
  await expect(after).toContainText("moved");
  await expect(after).toContainText("from Thornfield circuit to Thornfield to seed logs");
  await expect(page.locator("svg").getByText("1 moved").first()).toBeVisible();
  await accessible(page);

  // A fix's own.
  await page.goto(`/designs/${id}/estate?panel=findings`);
  await page.getByTitle("Routes before and after: Add what is missing to field notes table b").click();
  await expect(page.getByRole("region", { name: "Routes before and after" })).toContainText("1 entries gained");
  await page.getByRole("button", { name: "Where, in the picture" }).click();
  const picture = page.getByRole("dialog", { name: "Whose tables would differ" });
  await expect(picture.getByText("+1", { exact: true })).toBeVisible();
  await accessible(page);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Add what is missing to field notes table b", exact: true }).click();

  // What undoing that would do.
  await page.goto(`/designs/${id}/routes?as=whatif`);
  await page.getByRole("button", { name: /^If I undo/ }).click();
  await expect(after).toContainText("1 lost");

  // What a removal would do.
  await page.goto(`/designs/${id}/estate?sel=${of.get("seed logs")}`);
  await page.getByRole("button", { name: "Remove it" }).click();
  await page.getByRole("alertdialog").getByRole("button", { name: "Routes before and after" }).click();
  await expect(page.getByRole("alertdialog")).toContainText("tables differ");
  await page.getByRole("button", { name: "Keep it" }).click();

  // An option of a plan.
  await page.goto(`/designs/${id}/plan?party=${of.get("specimen loans")},${of.get("plate store")}&by=peering`);
  await page.getByRole("button", { name: "Routes before and after" }).first().click();
  await expect(page.getByRole("region", { name: "Routes before and after" })).toContainText("entries gained");
});
