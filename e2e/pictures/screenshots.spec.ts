import { expect, test, type APIRequestContext, type Page } from "@playwright/test";

// One current picture of each main view, made from the demo data. Set SHOTS to
// put them elsewhere, and DARK=1 for the dark look.
const folder = process.env.SHOTS ?? "../docs/screenshots";
const dark = process.env.DARK === "1";

test.use({ colorScheme: dark ? "dark" : "light" });

/** A made-up estate of three hundred huts in four owners' hands, most of them joined with the head garden. */
function hundreds(): string {
  const owners = ["Gardens", "Science", "Estates", "Public"];
  const lines = owners.map((o) => `owner ${o}`);
  lines.push("site Marrow Hill with lan data room 10.214.0.0/22, gateway 198.51.100.10 asn 64501");
  lines.push("network catalogue in Tarn 10.208.0.0/16, subnet shelf a /24, host logger answers tcp/6514", "join Marrow Hill and catalogue by vpn");
  for (let n = 0; n < 300; n++)
    lines.push(`site Field Hut ${n + 1} owner ${owners[n % 4]} with lan plot 10.${212 + (n >> 8)}.${n & 255}.0/24, gateway 203.0.113.${1 + (n % 250)}`);
  lines.push(`join Marrow Hill with ${Array.from({ length: 40 }, (_, n) => `Field Hut ${n * 4 + 2}`).join(", ")} by vpn`);
  return lines.join("\n");
}

async function say(request: APIRequestContext, id: string, base: number, text: string): Promise<void> {
  const heard = (await (await request.post(`/api/designs/${id}/say`, { data: { text } })).json()) as { edits: unknown[]; wrong: boolean };
  expect(heard.wrong).toBe(false);
  expect((await request.post(`/api/designs/${id}/changes`, { data: { base, reason: "Say it", edits: heard.edits } })).ok()).toBe(true);
}

async function shoot(page: Page, name: string): Promise<void> {
  await page.waitForLoadState("networkidle").catch(() => undefined);
  await page.evaluate(() => document.fonts.ready);
  await page.mouse.move(0, 799);
  await page.screenshot({ path: `${folder}/${name}.png` });
}

test("pictures of every place", async ({ page, request }) => {
  const [first] = (await (await request.get("/api/designs")).json()) as { id: string }[];
  const id = first?.id ?? ""; // a fresh Dravin has the demo
  const go = (path: string) => page.goto(`/designs/${id}/${path}`);

  await page.goto("/");
  await expect(page.getByText("Thistledown Botanic Trust").first()).toBeVisible();
  await shoot(page, "designs");

  const blank = (await (await request.post("/api/designs", { data: { from: "nothing", name: "New lodges" } })).json()) as { id: string };
  await page.goto(`/designs/${blank.id}/estate`);
  await expect(page.getByRole("heading", { name: "Nothing here yet" })).toBeVisible();
  await page.getByLabel("Say", { exact: true }).click();
  await page.keyboard.insertText("site Fern Lodge with lan offices /24, gateway 203.0.113.80 as");
  await expect(page.getByText("is not understood here")).toBeVisible();
  await go("estate");
  await page.getByLabel("Say", { exact: true }).click();
  await page.keyboard.insertText("lan tool shed in Alder Hut next free /26 of 10.215.0.0/16 segment grounds\njoin Alder Hut and Marrow Hill by vpn\nvisitors must never reach science");
  await expect(page.getByText("New intent: visitors never reaches science")).toBeVisible();
  await shoot(page, "estate-saying");
  await page.keyboard.press("Escape");

  const many = (await (await request.post("/api/designs", { data: { from: "nothing", name: "Three hundred huts" } })).json()) as { id: string };
  await say(request, many.id, 0, hundreds());
  await page.goto(`/designs/${many.id}/estate`);
  await expect(page.getByRole("button", { name: /stack of/ }).first()).toBeVisible();
  await shoot(page, "estate-300");

  await go("estate");
  await expect(page.getByRole("button", { name: /^Link Marrow Hill to catalogue/ })).toBeVisible();
  await page.getByRole("button", { name: "lan glasshouse 192.168.216.0/24, collides" }).first().click();

  await expect(page.getByRole("complementary", { name: "Sheet" })).toContainText("firmware");
  await shoot(page, "estate");

  await go("overlaps");
  await expect(page.getByText("breaks an intent")).toBeVisible();
  await shoot(page, "overlaps");
  await go("estate?as=table");
  await expect(page.getByRole("grid", { name: "Stock" })).toContainText("Alder Hut");
  await shoot(page, "estate-table");

  await go("links");
  await page.getByRole("button", { name: /^Peatside to Marrow Hill/ }).click();
  await page.getByRole("button", { name: "What the far end sent" }).click();
  await page.getByLabel("What they sent").fill("remote address: 203.0.113.21\nIKE proposals: aes128-sha256-modp4096\nlocal ranges: 10.214.0.0/24\nkey lifetime: 30m");
  await page.getByRole("button", { name: "Compare" }).click();
  await expect(page.getByText("3 lines differ")).toBeVisible();
  await page.getByRole("button", { name: /^Record it for/ }).click();
  await expect(page.getByTestId("outcome")).toContainText("down");
  await page.getByRole("button", { name: "Close toast" }).click();
  await expect(page.locator("[data-sonner-toast]")).toHaveCount(0);
  await shoot(page, "links-sheet");
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByTestId("outcome")).toContainText("it comes up");

  const tables = (await (await request.get(`/api/designs/${id}/tables`)).json()) as { at: string; title: string }[];
  const thornfield = tables.find((t) => t.title === "Thornfield Station gateway")?.at ?? "";
  await go(`routes?table=${thornfield}&entry=10.210.64.0/20&find=station`);
  await expect(page.getByRole("region", { name: "Why" })).toContainText("originated here");
  await shoot(page, "routes-table");
  await go("proof?from=thornfield-station/weather-room/weather-mast&to=plate-store/plates/plate-server&service=tcp/443");
  await expect(page.getByRole("group", { name: "The walk, drawn" })).toBeVisible();
  await shoot(page, "proof-walk");
  await go("proof?from=marrow-hill/data-room/controls-desk&to=rowan-hut/hut/rain-gauge&service=tcp/502");
  await expect(page.getByRole("group", { name: "The walk, drawn" })).toContainText("opens another");
  await go("proof?from=thornfield-station/weather-room/weather-mast&to=plate-store/plates/plate-server&service=icmp&more=held");
  await page.getByLabel(/^What ping/).fill("PING 10.210.33.10 (10.210.33.10) 56(84) bytes of data.\n3 packets transmitted, 3 received, 0% packet loss");
  await page.getByRole("button", { name: "Hold it against the walk" }).click();
  await page.getByText("It parts from the walk").scrollIntoViewIfNeeded();
  await shoot(page, "proof-held");
  await go("proof?as=matrix");
  await page.getByRole("application", { name: /^Matrix/ }).focus();
  for (let n = 0; n < 3; n++) await page.keyboard.press("ArrowRight");
  await expect(page.getByRole("list", { name: "Flows of the cell" })).toBeVisible();
  await shoot(page, "proof-matrix");
  await go("proof?as=drills&drill=thornfield-station/gateway");
  await expect(page.getByText("1 intent dies; 4 hold.")).toBeVisible();
  await expect(page.getByText("Where it is")).toBeVisible();
  await shoot(page, "proof-drills");
  await go("proof?as=rehearsal");
  await page.getByRole("button", { name: /^Rehearse/ }).click();
  await expect(page.getByRole("status").filter({ hasText: "is being played" })).toContainText(/(8|9|10) tunnels and/);
  await expect(page.getByText("✓ Proof and rehearsal say the same of all of it.")).toBeVisible({ timeout: 120_000 });
  await shoot(page, "rehearsal-report");
  await go("handover?as=runbook");
  await page.getByTestId("step").nth(4).getByRole("button").first().click();
  await expect(page.getByTestId("step").nth(4)).toContainText("birdc configure");
  await shoot(page, "runbook");
  await go("passes");
  await page.getByRole("button", { name: /^grove hub/ }).click();
  await page.getByRole("button", { name: /needed by 1/ }).click();
  await expect(page.getByRole("link", { name: "sample clerk reads the notes" })).toBeVisible();
  await shoot(page, "passes");
  await go("plan");
  await page.getByRole("button", { name: /^192\.168\.216\.0\/24/ }).first().click();
  await expect(page.getByRole("row", { name: /Intents that hold/ })).toContainText("8 of 8");
  await shoot(page, "plan-collision");
  await page.getByRole("button", { name: /^Apply/ }).first().click();
  await expect(page.getByText("Applied:")).toBeVisible();
  await go("handover?as=changes");
  await page.getByTestId("change").first().getByRole("button").first().click();
  await expect(page.getByText(/Built alone/)).toBeVisible();
  await expect(page.locator("[data-sonner-toast]")).toHaveCount(0);
  await shoot(page, "changes");
  await go("ledger");
  await page.getByLabel(/Whose is it/).fill("192.168.216.17");
  await page.keyboard.press("Enter");
  await expect(page.getByTestId("names")).toContainText("mapped");
  await expect(page.locator("[data-sonner-toast]")).toHaveCount(0);
  await shoot(page, "ledger");

  await go("proof");
  await page.getByRole("button", { name: /logger polls/ }).click();
  await expect(page.getByText("and the reply comes back")).toBeVisible();

  await go("handover");
  await page.getByRole("button", { name: /^Peatside Nursery/ }).click();
  await page.getByRole("button", { name: /dravin\.nft/ }).click();
  await expect(page.getByTestId("file")).toContainText("dnat");
  await shoot(page, "handover");
});
