import { expect, test } from "@playwright/test";
import { readFile } from "node:fs/promises";
import { inventory, largeDesign } from "../large";
import { accessible, openCase, place, strict } from "./page";

test.beforeEach(({ page }) => strict(page));

const spreadsheet = `Garden;Room;Addresses;Team;Zone of trust;Remarks
Dunmoss Arboretum;house;192.168.211.0/24;Estates;grounds;factory default
Peatside Nursery;offices;10.214.2.0/23;Estates;grounds;
Marrow Hill;data room;10.214.0.0/22;;;
Dunmoss Arboretum;shed;192.168.212.9/24;Estates;grounds;
`;

test("a spreadsheet in, its refused lines seen, accepted, the collision found, a free range reserved, all undone", async ({ page }) => {
  await openCase(page);
  await page.getByRole("radio", { name: "Bring in" }).click();
  await page.getByLabel("Or paste it").fill(spreadsheet);
  await page.getByRole("button", { name: "Preview" }).click();
  const lines = page.getByRole("list", { name: "Lines" });
  // What the header does not tell was told by what the columns hold; the rest is mapped by hand, and all is
  // read anew.
  await expect(page.getByLabel("Room is")).toHaveValue("name");
  await expect(page.getByLabel("Addresses is")).toHaveValue("prefix");
  await page.getByLabel("Zone of trust is").selectOption("segment");
  await expect(page.getByRole("button", { name: "3 new" })).toBeVisible();
  await expect(page.getByRole("button", { name: "1 the same" })).toBeVisible();
  await expect(lines).toContainText("192.168.212.9/24 is a host's address; the range that holds it is 192.168.212.0/24");
  await page.getByLabel("A host's address with a length").selectOption("refuse");
  await page.getByRole("button", { name: "1 refused" }).click();
  await expect(lines).toContainText("write the range, or choose that it is taken");
  await accessible(page);

  // The line is mended where it stands; its range is not the one that was meant, and it is left out.
  await page.getByRole("button", { name: "Mend line 5" }).click();
  const mend = page.getByRole("form", { name: "Mend line 5" });
  await mend.getByLabel("Addresses").fill("192.168.212.0/24");
  await mend.getByRole("button", { name: "Try this line again" }).click();
  await expect(page.getByRole("button", { name: "3 new" })).toBeVisible();
  await page.getByLabel("Take line 5").uncheck();
  await page.getByLabel("Take line 2").uncheck();
  await page.getByRole("button", { name: "Bring in 1 line" }).click();

  // Only the accepted line is in the table.
  const grid = page.getByRole("grid", { name: "Stock" });
  await page.getByLabel("Filter").fill("peatside offices");
  await expect(grid).toContainText("10.214.2.0/23");
  await page.getByLabel("Filter").fill("dunmoss");
  await expect(page.getByText("0 of")).toBeVisible();

  // The collision that it brought.
  await place(page, "Overlaps");
  const groups = page.getByRole("complementary", { name: "Conflict groups" });
  await groups.getByRole("button", { name: /10\.214\.0\.0\/22/ }).click();
  await expect(groups).toContainText("Peatside Nursery offices 10.214.2.0/23 lies inside Marrow Hill data room 10.214.0.0/22");

  // A free range, reserved with a name, is not offered again.
  const free = page.getByRole("region", { name: "Free space" });
  await free.getByLabel("Size").fill("/24");
  await free.getByLabel("Within").fill("10.214.0.0/20");
  await free.getByRole("button", { name: "Find" }).click();
  const first = free.getByRole("listitem").first();
  await expect(first).toContainText("10.214.4.0/24");
  await free.getByLabel("Reserve it as").fill("new orchard");
  await first.getByRole("button", { name: "Reserve" }).click();
  await expect(first).not.toContainText("10.214.4.0/24");
  await accessible(page);
  await page.reload();
  await expect(first).toContainText("10.214.5.0/24");

  for (const undone of ["Reserve 10.214.4.0/24", "Bring in pasted text"]) {
    await page.getByTitle(`Undo: ${undone}`).click();
  }
  await expect(page.getByRole("button", { name: "Undo" })).toBeDisabled();
  await expect(groups).not.toContainText("10.214.2.0/23");
});

test("what a box says asks whose it is, and takes the answer", async ({ page }) => {
  await openCase(page);
  await page.getByRole("radio", { name: "Bring in" }).click();
  await page.getByLabel("Or paste it").fill("2: eth1: <UP> mtu 1500\n    inet 10.213.8.1/22 scope global eth1\n");
  await page.getByRole("button", { name: "Preview" }).click();
  const whose = page.getByRole("form", { name: "Whose it is" });
  await whose.getByLabel("Whose is it?").fill("Fern Gully");
  await whose.getByRole("button", { name: "Go on" }).click();
  await page.getByRole("button", { name: "Bring in 1 line" }).click();
  await expect(page.getByRole("grid", { name: "Stock" })).toContainText("10.213.8.0/22");
});

test("the table is worked by keys, by pasting a block, and on many rows at once", async ({ page }) => {
  await openCase(page);
  await page.getByRole("radio", { name: "Table" }).click();
  const grid = page.getByRole("grid", { name: "Stock" });
  await page.getByLabel("Filter").fill("lan");
  await expect(page.getByText("3 of")).toBeVisible();
  await grid.focus();
  await page.keyboard.press("Home");
  await page.keyboard.press("Enter");
  await page.getByLabel("Name of data room").fill("machine room");
  await page.keyboard.press("Enter");
  await expect(grid).toContainText("machine room");

  // A range is put to a list, and taken out of it again, without typing the others; what goes is told.
  for (const [typed, then] of [
    ["+10.214.64.0/24", "10.214.0.0/22, 10.214.64.0/24"],
    ["-10.214.64.0/24", "10.214.0.0/22"],
  ] as const) {
    await page.keyboard.press("Home");
    await page.keyboard.press("ArrowRight");
    await page.keyboard.press("Enter");
    await page.getByLabel("Ranges and addresses of machine room").fill(typed);
    await page.keyboard.press("Enter");
    await expect(grid.getByRole("row", { name: "machine room" })).toContainText(then);
    await page.keyboard.press("ArrowLeft");
  }
  await expect(page.getByText("10.214.64.0/24 is gone from machine room")).toBeVisible();

  // A bad value is refused whole, with the reason, and nothing is lost.
  await page.keyboard.press("Home");
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("Enter");
  await page.getByLabel("Ranges and addresses of machine room").fill("10.214.0.1/22");
  await page.keyboard.press("Enter");
  await expect(page.getByText(/has host bits set; the \/22 that holds it is 10\.214\.0\.0\/22/)).toBeVisible();
  await expect(grid).toContainText("10.214.0.0/22");

  // A block of cells from a spreadsheet, at the segment of the first rows.
  await page.keyboard.press("Home");
  for (const key of ["ArrowRight", "ArrowRight"]) await page.keyboard.press(key);
  await grid.evaluate((e) => {
    const data = new DataTransfer();
    data.setData("text/plain", "science\t\tcold aisle\nscience\t\tglass cases\n");
    e.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true }));
  });
  await expect(grid).toContainText("cold aisle");
  await expect(grid).toContainText("glass cases");

  await page.getByLabel("Choose all that are listed").check();
  await page.getByLabel("Set segment").fill("shared");
  await page.getByRole("button", { name: "Set segment" }).click();
  await expect(grid.getByText("shared", { exact: true })).toHaveCount(3);
  await accessible(page);
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(grid.getByText("science", { exact: true })).toHaveCount(2);
});

test("a sheet is edited in place, and what is still used is not removed without a question", async ({ page }) => {
  await openCase(page);
  await page.getByRole("button", { name: "site Peatside Nursery" }).click();
  const sheet = page.getByRole("complementary", { name: "Sheet" });
  await sheet.getByRole("button", { name: "Change note" }).click();
  await sheet.getByLabel("note", { exact: true }).fill("Merged in spring.");
  await page.keyboard.press("Enter");
  await expect(sheet).toContainText("Merged in spring.");
  await sheet.getByRole("button", { name: /^gateway ?gateway$/ }).click();
  await sheet.getByRole("button", { name: "Remove it" }).click();
  const ask = page.getByRole("alertdialog");
  await expect(ask).toContainText("link Peatside to Marrow Hill");
  await ask.getByRole("button", { name: "Keep it" }).click();
  await expect(sheet).toContainText("203.0.113.20");
});

test("what is taken out comes back the same", async ({ page }) => {
  await openCase(page);
  for (const format of ["CSV", "XLSX", "YAML"]) {
    const wait = page.waitForEvent("download");
    await page.getByRole("button", { name: "Take out" }).click();
    await page.getByRole("menuitem", { name: format }).click();
    const file = await wait;
    expect(file.suggestedFilename()).toMatch(new RegExp(`^two-gardens(-\\d+)?.${format.toLowerCase()}$`));
    await page.getByRole("radio", { name: "Bring in" }).click();
    await page
      .getByRole("region", { name: "Bring in" })
      .locator('input[type="file"]')
      .setInputFiles({ name: file.suggestedFilename(), mimeType: "", buffer: await readFile(await file.path()) });
    await expect(page.getByRole("button", { name: "0 new" })).toBeVisible();
    await expect(page.getByRole("button", { name: "0 changed" })).toBeVisible();
    await expect(page.getByRole("button", { name: "0 refused" })).toBeVisible();
    await page.getByRole("radio", { name: "Picture" }).click();
  }
});

test("a long import shows progress, can be broken off, and garbage is refused", async ({ page }) => {
  await openCase(page);
  await page.getByRole("radio", { name: "Bring in" }).click();
  const choose = page.getByRole("region", { name: "Bring in" }).locator('input[type="file"]');
  // A slow line: the import lasts as long as it takes to break it off.
  const line = await page.context().newCDPSession(page);
  const slow = { offline: false, latency: 0, downloadThroughput: -1, uploadThroughput: 100_000 };
  await line.send("Network.enable");
  await line.send("Network.emulateNetworkConditions", slow);
  await choose.setInputFiles({ name: "long.csv", mimeType: "text/csv", buffer: Buffer.from(inventory(2000, 100)) });
  await page.getByRole("button", { name: "Break off" }).click();
  await expect(page.getByRole("alert")).toContainText("nothing was stored");
  await line.send("Network.emulateNetworkConditions", { ...slow, uploadThroughput: -1 });
  await choose.setInputFiles({ name: "cat.jpg", mimeType: "image/jpeg", buffer: Buffer.from([0xff, 0xd8, 0, 1, 2, 3]) });
  await expect(page.getByRole("alert")).toContainText("this is not text");
});

test("three hundred sites stay in hand", async ({ page, request }) => {
  const id = await largeDesign(request, 300, 12);
  await page.goto(`/designs/${id}/estate`);
  // One stack; any one of it is found by a few letters.
  await expect(page.getByRole("button", { name: /stack of 300 like/ })).toBeVisible();
  await page.getByLabel("Find in the picture").fill("station 300");
  await expect(page.getByRole("button", { name: "site Field station 300" })).toBeVisible();
  await page.goto(`/designs/${id}/overlaps`);
  await expect(page.getByText("ranges in view")).toBeVisible();
});
