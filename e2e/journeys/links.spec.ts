import { expect, test, type Page } from "@playwright/test";
import { accessible, strict, trust } from "./page";

const sheet = (page: Page) => page.getByRole("article", { name: "Two-ended sheet" });
const line = (page: Page, key: string) => sheet(page).locator(`[data-line="${key}"]`);
const option = (page: Page, title: RegExp) =>
  page.getByRole("table", { name: "Options side by side" }).getByRole("columnheader", { name: title });

/** Applies an option and opens the sheet of what it joins by. */
async function draft(page: Page, title: RegExp): Promise<void> {
  await option(page, title).first().getByRole("button", { name: /^Apply/ }).click();
  await page.getByRole("link", { name: /^The sheet of/ }).first().click();
  await expect(page).toHaveURL(/link=/);
  await expect(sheet(page)).toBeVisible();
}

test.beforeEach(({ page }) => strict(page));

test("two parties chosen in the picture are joined by a VPN with everything filled in", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/estate`);
  await page.getByLabel("Find in the picture").fill("dunmoss"); // it stands in a stack
  await page.getByRole("button", { name: "site Dunmoss Arboretum" }).click();
  await page.getByRole("button", { name: "Must talk with…" }).click();
  await expect(page.getByRole("status")).toContainText("Dunmoss Arboretum must talk with whom?");
  await page.getByLabel("Find in the picture").fill("sequencing");
  await page.getByRole("button", { name: "network sequencing" }).click();

  await expect(option(page, /VPN with BGP/).first()).toBeVisible();
  await page.getByText(/^Not offered, and why/).click();
  await expect(page.getByTestId("option")).toContainText("a peering joins two cloud networks");
  await option(page, /VPN with BGP/).first().getByRole("button", { name: /VPN with BGP/ }).first().click();
  await page.getByText(/^What is filled in, and why/).click();
  await expect(page.getByTestId("option")).toContainText("free in this design");
  await expect(page.getByTestId("option")).toContainText("strongest first");
  await page.reload();
  await expect(page.getByTestId("option")).toContainText("VPN with BGP");
  await accessible(page);
  await draft(page, /VPN with BGP/);

  await expect(sheet(page)).toContainText("planned");
  await expect(page.getByTestId("outcome")).toContainText("it comes up");
  await expect(line(page, "address-2")).toContainText("not known yet");
  await expect(line(page, "ike")).toContainText("agrees");
  await page.getByRole("button", { name: "tunnel 2" }).click();
  await expect(line(page, "inside-1")).toHaveAttribute("data-verdict", "agrees");
  await accessible(page);

  // The draft crosses owners, so the other side is asked first; and all of it is one step back.
  await expect(page.getByRole("region", { name: "Request to join" })).toContainText("Estates asks Science");
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByRole("alert")).toContainText("there is no such link now");
});

test("peering, hub and circuit are drafted from table and palette", async ({ page, request }) => {
  const { id, of } = await trust(request);
  await page.goto(`/designs/${id}/estate?as=table`);
  const grid = page.getByRole("grid", { name: "Stock" });
  for (const name of ["public site", "ticketing"]) {
    await page.getByLabel("Filter").fill(name);
    await grid.getByRole("row", { name: new RegExp(`${name}.*Sedge`) }).first().getByRole("checkbox").check();
  }
  await page.getByRole("button", { name: "Plan how they talk" }).click();
  await draft(page, /by peering/);
  await page.getByRole("button", { name: "The half of public site is made" }).click();
  await expect(sheet(page)).toContainText("peering, being built");
  await page.getByRole("button", { name: "The half of ticketing is made" }).click();
  await expect(line(page, "half")).toContainText("agrees");

  await page.keyboard.press("Control+k");
  await page.getByPlaceholder("A name, an address").fill("public site to visitor hub");
  await expect(page.getByRole("option", { name: "Plan: public site with visitor hub" })).toHaveAttribute("data-selected", "");
  await page.keyboard.press("Enter");
  await draft(page, /by a hub/);
  await expect(sheet(page)).toContainText("attachment to a hub");
  await page.getByRole("button", { name: "Begin to build it" }).click();
  await page.getByRole("button", { name: "It is ready" }).click();

  await page.goto(`/designs/${id}/plan?party=${of.get("Millrace")},${of.get("sequencing")}`);
  await draft(page, /by circuits/);
  await page.getByRole("button", { name: /It is ordered at/ }).click();
  await page.getByRole("button", { name: "Enter the order code" }).click();
  await page.getByLabel("Order code", { exact: true }).last().fill("TIDE-77-ELDER");
  await page.getByLabel("Zone it is for").fill("osier-west-2");
  await page.getByRole("button", { name: "Enter", exact: true }).click();
  await expect(line(page, "code")).toContainText("differs");
  await expect(sheet(page)).toContainText("the order code of sequencing circuit 1 is for osier-west-2");
  await page.getByRole("button", { name: "Put both ends into osier-west-2" }).click();
  await page.getByRole("button", { name: /It is accepted at/ }).click();
  await page.getByRole("button", { name: "The session is up" }).click();
  await expect(sheet(page).getByText("ready")).toBeVisible();
});

test("a half-made peering is completed", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/estate?panel=findings`);
  await expect(page.getByRole("dialog")).toContainText("waits for ever");
  await page.getByRole("article").filter({ hasText: "waits for ever" }).getByRole("link", { name: "Show it" }).click();
  await expect(page).toHaveURL(/links\?link=/);
  await expect(page.getByRole("button", { name: /^sequencing with image analysis/ })).toContainText("half made");
  await page.getByRole("button", { name: "The half of image analysis is made" }).click();
  await expect(sheet(page).getByText("ready")).toBeVisible();
  await expect(line(page, "half")).toContainText("agrees");
});

test("a foreign join is refused, asked again and accepted", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/links`);
  await page.getByRole("button", { name: /^seed bank index/ }).click();
  const asks = page.getByRole("region", { name: "Request to join" });
  await expect(asks).toContainText("Science asks Public");
  await expect(asks.getByRole("button", { name: "Refuse" })).toBeDisabled();
  await page.getByLabel("Reason").fill("say first which hosts need it");
  await asks.getByRole("button", { name: "Refuse" }).click();
  await expect(sheet(page)).toContainText("Public refused what Science asked: say first which hosts need it");
  await page.getByRole("button", { name: "Ask again" }).click();
  await page.getByLabel("Reason").fill("only the index's own racks");
  await asks.getByRole("button", { name: "Accept" }).click();
  await expect(sheet(page)).toContainText("being built");
  await page.getByRole("button", { name: "It is ready" }).click();
  await expect(sheet(page).getByText("ready").first()).toBeVisible();
  const history = (await (await request.get(`/api/designs/${id}/history`)).json()) as { reason: string }[];
  expect(history.map((c) => c.reason).join("\n")).toContain("Refuse visitor hub seed bank index: say first which hosts need it");
});

test("what the far end sent differs in three lines, which are fixed", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/links`);
  await page.getByRole("button", { name: /^Peatside to Marrow Hill/ }).click();
  await page.getByRole("button", { name: "What the far end sent" }).click();
  const paste = page.getByRole("region", { name: "What the far end sent" });
  await paste.getByLabel("What they sent").fill("connections {\n  nursery {\n    remote_addrs = 203.0.113.21\n");
  await paste.getByRole("button", { name: "Compare" }).click();
  await expect(paste.getByRole("alert")).toContainText("line 2: the section nursery is not closed");

  await paste.getByLabel("What they sent").fill(`connections {
  nursery {
    version = 2
    local_addrs = 198.51.100.10
    remote_addrs = 203.0.113.21
    proposals = aes128-sha256-modp4096
    local { id = 198.51.100.10 }
    children { c {
      local_ts = 10.214.0.0/24
      remote_ts = 192.168.216.0/24
    } }
  }
}
secrets { ike-nursery { secret = "badgers and moss" } }`);
  await paste.getByRole("button", { name: "Compare" }).click();
  await expect(paste).toContainText("4 lines differ");
  await accessible(page);
  await paste.getByRole("button", { name: "Record it for Marrow Hill gateway" }).click();

  await expect(page.getByTestId("outcome")).toContainText("down");
  await expect(sheet(page)).toContainText("4 of");
  await expect(page.locator("body")).not.toContainText("badgers");
  await page.getByRole("button", { name: "Set Marrow Hill gateway to 203.0.113.20" }).click();
  await expect(line(page, "address-1")).toContainText("agrees");
  await page.getByRole("button", { name: "Set Peatside Nursery gateway to aes128-sha256-modp4096" }).click();
  await expect(line(page, "ike")).toContainText("agrees");
  await page.getByRole("button", { name: "Set Marrow Hill gateway to 10.214.0.0/22" }).click();
  await expect(line(page, "selectors-2")).toContainText("agrees");
  await page.getByRole("button", { name: "Use the key they sent" }).click();
  await expect(line(page, "key")).toContainText("agrees");
  await expect(page.getByTestId("outcome")).toContainText("it comes up");

  // Every value can be written where it stands.
  await page.getByRole("button", { name: "Change Key lifetime at Peatside Nursery gateway" }).click();
  await page.getByRole("textbox", { name: "Key lifetime at Peatside Nursery gateway" }).fill("30m");
  await page.keyboard.press("Enter");
  await expect(line(page, "child-life")).toContainText("1800 s");
  await expect(line(page, "child-life")).toContainText("beware");
  await page.getByRole("button", { name: "Change IKE proposals at Marrow Hill gateway" }).click();
  await page.getByRole("textbox", { name: "IKE proposals at Marrow Hill gateway" }).fill("aes512-sha9");
  await page.keyboard.press("Enter");
  await expect(page.getByText(/aes512.* is no algorithm that Dravin knows/)).toBeVisible();
  await expect(line(page, "ike")).toContainText("agrees");
  const all = JSON.stringify(await (await request.get(`/api/designs/${id}/history`)).json());
  expect(all).toContain("Use the far end's key");
  expect(all).not.toContain("badgers");
});

test("a profile is copied, refused where it is wrong, and used", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/links?as=profiles&profile=Tarn`);
  await page.getByRole("button", { name: "Copy and edit" }).click();
  const file = page.getByLabel("The profile file");
  const text = await file.inputValue();
  await file.fill(text.replace("name: Tarn copy", "name: Rush").replace("tables: subnet", "tables: house"));
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByRole("alert")).toContainText(/line \d+: networks.tables: "house" is not known; write one of subnet, network/);
  await expect(file).toHaveValue(/house/);
  await file.fill(text.replace("name: Tarn copy", "name: Rush").replace('peering_gb: "0.012"', 'peering_gb: "0.5"').replace("peering_gb: 0.012", "peering_gb: 0.5"));
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByRole("button", { name: /^Rush/ })).toContainText("yours");
  await accessible(page);

  await page.goto(`/designs/${id}/links?as=study&cloud=Rush`);
  await expect(page.getByRole("region", { name: "In words" })).toContainText("One hub costs less a month than pairwise peering, for any number from 3 to 50");
  await expect(page.getByRole("row", { name: /^2 now/ })).toBeVisible({ visible: false });
  await page.getByRole("radio", { name: "Cost a month" }).click();
  await page.reload();
  await expect(page.getByRole("radio", { name: "Cost a month" })).toHaveAttribute("aria-checked", "true");
  await accessible(page);
});

test("what a cloud gives later is entered, reaches the files, and makes the draft ready", async ({ page, request }) => {
  const { id, of } = await trust(request);
  await page.goto(`/designs/${id}/plan?party=${of.get("Saltmarsh Station")},${of.get("sequencing")}&by=vpn-bgp`);
  await draft(page, /VPN with BGP/);
  for (const [tunnel, address] of [
    ["tunnel 1", "192.0.2.60"],
    ["tunnel 2", "192.0.2.61"],
  ] as const) {
    await page.getByRole("button", { name: tunnel }).click();
    await expect(line(page, "address-2")).toHaveAttribute("data-verdict", "unknown");
    await page.getByRole("button", { name: "Change Address of sequencing at sequencing twin gateway" }).click();
    await page.getByRole("textbox", { name: /Address of sequencing/ }).fill(address);
    await page.keyboard.press("Enter");
    await expect(line(page, "address-2")).toContainText(address);
    await expect(line(page, "address-2")).toHaveAttribute("data-verdict", "agrees");
    await expect(line(page, "identity-2")).toHaveAttribute("data-verdict", "agrees");
  }
  await page.getByRole("button", { name: "Begin to build it" }).click();
  await page.getByRole("button", { name: "It is ready" }).click();
  await expect(sheet(page).getByText("ready").first()).toBeVisible();

  const at = page.url();
  await page.getByRole("link", { name: "hand over" }).click();
  await page.getByRole("button", { name: /^Saltmarsh Station/ }).click();
  await page.getByRole("button", { name: /swanctl\/conf.d\/dravin.conf/ }).click();
  await expect(page.getByTestId("file")).toContainText("remote_addrs = 192.0.2.61");
  await page.getByRole("button", { name: /bird.conf/ }).click();
  await expect(page.getByTestId("file")).toContainText("neighbor 169.254.");

  // Escape leaves a value as it was, and so does the same value again.
  await page.goto(at);
  await page.getByRole("button", { name: "Change Key lifetime at Saltmarsh Station gateway" }).click();
  await page.keyboard.type("1h");
  await page.keyboard.press("Escape");
  await expect(line(page, "child-life")).toContainText("3600 s");
});

test("options of peerings and attachments are chosen, and what a box can do is told", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/links`);
  await page.getByRole("button", { name: /^sequencing with image analysis/ }).click();
  // What is clicked before the write of the click before is answered does not take that back.
  await page.route("**/changes", async (route) => {
    await new Promise((done) => setTimeout(done, 1000));
    await route.continue();
  });
  await page.getByRole("button", { name: "The half of image analysis is made" }).click();
  await page.getByRole("button", { name: "Let sequencing use it" }).click();
  await expect(line(page, "gateway-2")).toContainText("differs");
  await expect(line(page, "half")).toContainText("agrees");
  await page.unroute("**/changes");
  await page.getByRole("button", { name: "Let image analysis lend it" }).click();
  await expect(line(page, "gateway-2")).toContainText("agrees");
  await page.getByRole("button", { name: "Let sequencing take what the other passes on" }).click();
  await expect(page.getByRole("button", { name: "Let sequencing no longer take what the other passes on" })).toBeVisible();

  await page.getByRole("button", { name: /^herbarium scans at Tarn hub/ }).click();
  await page.getByRole("button", { name: "Bind it to a new table" }).click();
  await expect(line(page, "bound")).toContainText("table 2");
  await page.getByRole("button", { name: "Feed table 2" }).click();
  await expect(line(page, "feeds")).toContainText("main, table 2");

  await page.goto(`/designs/${id}/estate`);
  await page.getByRole("button", { name: "site Saltmarsh Station" }).click();
  const about = page.getByRole("complementary", { name: "Sheet" });
  await about.getByRole("button", { name: /^gateway/ }).click();
  await about.getByRole("button", { name: "All values" }).click();
  const form = page.getByRole("dialog");
  await form.getByRole("button", { name: "faults" }).click();
  await form.getByRole("checkbox", { name: "forwarding-off" }).check();
  await form.getByRole("button", { name: "Save" }).click();
  await expect(about).toContainText("has forwarding off, so nothing passes through it");
  await accessible(page);
  await about.getByRole("button", { name: "It is put right" }).click();
  await expect(about).not.toContainText("has forwarding off");
});
