import { expect, test } from "@playwright/test";
import { legible, openCase, strict, trust } from "./page";

test.beforeEach(({ page }) => strict(page));

test("a rehearsal: the picture comes alive, its log and its report; one is cancelled", async ({ page }) => {
  await openCase(page);
  const design = page.url().split("/")[4] ?? "";
  await page.goto(`/designs/${design}/proof?as=rehearsal`);
  const begin = page.getByRole("button", { name: "Rehearse when built" });
  await begin.click();
  const status = page.getByRole("status").filter({ hasText: "is being played" });
  await expect(status).toContainText("3 tunnels and 0 sessions up, 3 boxes booted");
  await expect(page.getByRole("button", { name: /^Link Peatside to Marrow Hill/ })).toHaveAttribute("data-up", "true");
  await page.getByRole("button", { name: "Log by box" }).click();
  await page.getByLabel("Boxes").getByRole("button", { name: /^Marrow Hill gateway/ }).click();
  await expect(page.getByLabel("Log of Marrow Hill gateway")).toContainText("loaded connection");
  await page.getByRole("button", { name: "Proof and rehearsal" }).click();
  await expect(page.getByText("✓ Proof and rehearsal say the same of all of it.")).toBeVisible();
  await legible(page);
  const capture = page.getByRole("link", { name: "data room polls the controller" });
  const file = await page.request.get((await capture.getAttribute("href")) ?? "");
  expect((await file.body()).subarray(0, 4).toString("hex")).toBe("0a0d0d0a"); // a section header of pcapng

  await begin.click();
  await page.getByRole("button", { name: "Cancel" }).click();
  await expect(page.getByRole("complementary", { name: "Rehearsals" })).toContainText("cancelled");
});

test("the runbook: steps with their checks and way back, ticked off, and today follows", async ({ page, request }) => {
  const { id } = await trust(request);
  await page.goto(`/designs/${id}/handover?as=runbook`);
  await expect(page.getByRole("heading", { name: "5 steps to do" })).toBeVisible();
  const steps = page.getByTestId("step");
  await steps.nth(4).getByRole("button").first().click();
  await expect(steps.nth(4)).toContainText("birdc configure");
  await expect(steps.nth(4)).toContainText("tar -C /etc -xf");
  await legible(page);
  await expect(page.getByText("visitor hub seed bank index waits for the other side's answer")).toBeVisible();
  await expect(page.getByTestId("gate").filter({ hasText: "herbarium scans circuit 2" })).toContainText("up to 12 days");

  await steps.nth(0).getByRole("button", { name: "Done" }).click();
  await expect(page.getByText("a circuit needs its order code")).toBeVisible();
  await steps.nth(0).getByLabel("Order code").fill("TN-4711");
  await steps.nth(0).getByRole("button", { name: "Done" }).click();
  for (const left of [4, 3, 2, 1]) {
    await expect(steps).toHaveCount(left);
    if (left === 3) await steps.nth(0).getByLabel("Port").fill("enp3s0");
    await steps.nth(0).getByRole("button", { name: "Done" }).click();
  }
  await expect(page.getByText("✓ What is built is what is planned.")).toBeVisible();
  await expect(page.getByText("Millrace: load the files with herbarium scans circuit 2")).toBeVisible();
  const links = (await (await request.get(`/api/designs/${id}/links?side=built`)).json()) as { name: string; status: { up: boolean } }[];
  expect(JSON.stringify(links)).toContain("herbarium scans circuit 2");
  await page.getByRole("button", { name: "Not done" }).first().click();
  await expect(steps).toHaveCount(1);
  await expect(steps.nth(0)).toContainText("5.");
});
