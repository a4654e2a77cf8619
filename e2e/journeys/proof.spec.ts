import { readFileSync } from "node:fs";
import { expect, test } from "@playwright/test";
import { accessible, legible, strict, trust } from "./page";

test.beforeEach(({ page }) => strict(page));

const mast = "from=thornfield-station/weather-room/weather-mast&to=plate-store/plates/plate-server&service=tcp/443";

test("the matrix: folded, by keys and pointer, a cell that opens its walk, and what a failure closes", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/proof?as=matrix`);
  const legend = page.getByRole("list", { name: "Legend" });
  await expect(legend).toContainText("missing 3");
  await legible(page);

  // By keys: the first cell, then along the row to one that is missing.
  const grid = page.getByRole("application", { name: /^Matrix/ });
  await grid.focus();
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("ArrowRight");
  await expect(page.locator("#matrix-said")).toHaveText("Marrow Hill to Peatside Nursery: missing");
  const flows = page.getByRole("list", { name: "Flows of the cell" });
  await expect(flows.getByRole("listitem").first()).toContainText("missing (on-link-elsewhere)");
  await page.reload();
  await expect(flows.getByRole("listitem").first()).toContainText("missing");
  await flows.getByRole("link").first().click();
  await expect(page.getByRole("region", { name: "Verdict" })).toContainText("stopped on the way there");

  // By service and by host, and without something.
  await page.goto(`/designs/${id}/proof?as=matrix&by=host&services=tcp/443`);
  await expect(legend).toContainText("on 1 services");
  await page.goto(`/designs/${id}/proof?as=matrix&without=thornfield-station/gateway`);
  await expect(page.getByRole("list", { name: "Changed flows" }).getByRole("listitem").first()).toContainText("closed");
  await expect(legend).toContainText("Compared: without Thornfield Station gateway");
});

test("a walk, drawn: through translation and listeners, its legs, its capture, and a ping held against it", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/proof?${mast}`);
  const strip = page.getByRole("group", { name: "The walk, drawn" });
  await expect(strip).toContainText("Thornfield Station");
  await expect(strip.getByRole("button")).toHaveCount(7);
  await strip.getByRole("button", { name: /^gateway/ }).first().click();
  await expect(page.locator('tr[class*="bg-mark"]').first()).toContainText("routes");
  await expect(page.getByRole("table", { name: "Legs" })).toContainText("24 ms, measured");
  await expect(page.getByText("Thornfield Station gateway can not send a packet of 1500 bytes")).toBeVisible();
  await accessible(page);

  await page.getByRole("radio", { name: "On the wire" }).click();
  await expect(page.getByRole("table", { name: "Where one can capture" })).toContainText("esp and host 192.0.2.60 and host 203.0.113.80");
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "Capture file" }).click();
  const path = await (await download).path();
  expect(readFileSync(path).readUInt32LE(0)).toBe(0x0a0d0d0a);

  // What was captured is held against it, and what was not.
  await page.getByRole("radio", { name: "Hold against it" }).click();
  await page.locator('input[type="file"]').setInputFiles(path);
  await expect(page.getByText("It agrees with the walk")).toBeVisible();
  await page.getByLabel(/^What ping/).fill("PING 10.210.33.99 (10.210.33.99) 56(84) bytes of data.\n3 packets transmitted, 0 received, 100% packet loss");
  await page.getByRole("button", { name: "Hold it against the walk" }).click();
  await expect(page.getByText("10.210.33.99 was pinged, and this flow dials 10.210.33.10")).toBeVisible();
  await page.getByLabel(/^What ping/).fill("nothing of the kind");
  await page.getByRole("button", { name: "Hold it against the walk" }).click();
  await expect(page.getByRole("alert")).toContainText("paste what ping, traceroute");

  // Two relays on the way: each ends a connection and opens another.
  await page.goto(`/designs/${id}/proof?from=marrow-hill/data-room/controls-desk&to=rowan-hut/hut/rain-gauge&service=tcp/502`);
  await expect(strip).toContainText("ends one connection, opens another");
  await expect(strip.locator("s").first()).toContainText("10.214.0.20");
});

test("a stopped flow that nobody asked for: fixes that were tried, one of them made", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/proof?from=saltmarsh-station/tide-laboratory/tide-recorder&to=plate-store/plates/plate-server&service=tcp/443&more=fixes`);
  await expect(page.getByRole("region", { name: "Verdict" })).toContainText("stopped");
  const remedies = page.getByRole("list", { name: "Remedies" });
  await expect(remedies.getByRole("listitem").first()).toContainText("Tried: it works with this", { timeout: 30_000 });
  await remedies.getByRole("button", { name: "Make this change" }).first().click();
  await expect(page.getByRole("region", { name: "Verdict" })).toContainText("works");
});

test("drills: every failure, worst first; two at once; what moves, and for how long", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/proof?as=drills`);
  await expect(page.getByRole("heading", { name: /single failures kill an intent/ })).toBeVisible();
  await legible(page);
  await page.getByRole("button", { name: /^Thornfield to field exchange, tunnel 1 tunnel/ }).click();
  await expect(page.getByText("No intent dies; 5 hold.")).toBeVisible();
  await expect(page.getByText(/after 30 s at most: the hold time of the session of Thornfield to field exchange, tunnel 1/).last()).toBeVisible();
  await page.getByRole("combobox", { name: "Fails together with" }).fill("tunnel 2");
  await page.getByRole("option", { name: /tunnel 2/ }).first().waitFor();
  await page.goto(`/designs/${id}/proof?as=drills&drill=thornfield-to-field-exchange/tunnel-1&also=thornfield-to-field-exchange/tunnel-2`);
  await expect(page.getByText("1 intent dies; 4 hold.")).toBeVisible();
  await page.getByRole("link", { name: "Matrix without them" }).click();
  await expect(page.getByRole("list", { name: "Legend" })).toContainText("Compared: without");
});

test("an empty design says what to do", async ({ page }) => {
  const { id } = (await (await page.request.post("/api/designs", { data: { from: "nothing", name: "Nothing yet" } })).json()) as { id: string };
  await page.goto(`/designs/${id}/proof?as=matrix`);
  await expect(page.getByText("Nobody could talk yet")).toBeVisible();
  await page.goto(`/designs/${id}/proof?as=drills`);
  await expect(page.getByText("No single failure kills or moves an intent")).toBeVisible();
});
