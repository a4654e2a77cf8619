import { test, type Page } from "@playwright/test";
import { largeDesign } from "../large";

/** Does something over and over while the browser counts how long each frame took. */
async function frames(page: Page, times: number, act: (n: number) => Promise<void>): Promise<string> {
  await page.evaluate(() => {
    const w = window as unknown as { frames: number[]; counting: boolean };
    w.frames = [];
    w.counting = true;
    let last = performance.now();
    const step = (now: number) => {
      w.frames.push(now - last);
      last = now;
      if (w.counting) requestAnimationFrame(step);
    };
    requestAnimationFrame(step);
  });
  for (let n = 0; n < times; n++) await act(n);
  const list = await page.evaluate(() => {
    const w = window as unknown as { frames: number[]; counting: boolean };
    w.counting = false;
    return w.frames.slice(1);
  });
  list.sort((a, b) => a - b);
  const at = (q: number) => (list[Math.min(list.length - 1, Math.floor(q * list.length))] ?? 0).toFixed(1);
  return `${list.length} frames, median ${at(0.5)} ms, 99% ${at(0.99)} ms, longest ${at(1)} ms, over 50 ms: ${list.filter((f) => f > 50).length}`;
}

/** Waits for a text, looking in every frame, and tells how long after the navigation it was there. */
async function shown(page: Page, text: string): Promise<string> {
  const at = await page.waitForFunction((t) => document.body?.textContent?.includes(t) && performance.now(), text, { polling: "raf" });
  return Number(await at.jsonValue()).toFixed(0);
}

test("frames with 20,000 prefixes of 500 parties", async ({ page, request }) => {
  const id = await largeDesign(request, 500, 40);
  await request.get(`/api/designs/${id}/overlaps`); // the first look computes

  await page.goto(`/designs/${id}/overlaps?view=10.0.0.0%2F8`, { waitUntil: "commit" });
  console.log(`ruler: shown ${await shown(page, "ranges in view")} ms after the navigation began`);
  const ruler = page.getByRole("application");
  await ruler.focus();
  await page.waitForTimeout(500);
  const keys = ["+", "+", "+", "ArrowRight", "ArrowRight", "-", "ArrowLeft", "+", "+", "-", "-", "-", "-"];
  console.log("ruler, keys:  ", await frames(page, 130, (n) => page.keyboard.press(keys[n % keys.length] ?? "+")));
  const box = (await ruler.boundingBox()) ?? { x: 0, y: 0, width: 900, height: 600 };
  await page.mouse.move(box.x + 500, box.y + 300);
  console.log("ruler, wheel: ", await frames(page, 80, (n) => page.mouse.wheel(0, n % 8 < 4 ? -100 : 100)));
  console.log(
    "ruler, rows:  ",
    await frames(page, 60, () => ruler.evaluate((e) => void (e.scrollTop += 400)).then(() => page.waitForTimeout(16))),
  );

  await page.goto(`/designs/${id}/estate?as=table`, { waitUntil: "commit" });
  console.log(`table: shown ${await shown(page, "of 20500 rows")} ms after the navigation began`);
  const grid = page.getByRole("grid");
  await page.waitForTimeout(500);
  console.log(
    "table, scroll:",
    await frames(page, 120, (n) => grid.evaluate((e, by) => void (e.scrollTop += by), n % 2 ? 900 : 5000).then(() => page.waitForTimeout(16))),
  );
  console.log("table, filter:", await frames(page, 12, (n) => page.getByLabel("Filter").press("plot 12 5".at(n % 9) ?? "p")));
});

/** A made-up estate in which no two parties are alike enough to be folded, with two joints for each party. */
async function joined(request: import("@playwright/test").APIRequestContext, parties: number, hosts = false): Promise<string> {
  const { id } = (await (await request.post("/api/designs", { data: { from: "nothing", name: `${parties} joined` } })).json()) as { id: string };
  const puts: { id: string; kind: string; parent?: string; name: string; body: object }[] = [];
  const put = (kind: string, oid: string, name: string, body: object, parent?: string) => puts.push({ id: oid, kind, parent, name, body });
  for (let n = 0; n < parties; n++) {
    put("network", `n${n}`, `plot ${n}`, { cloud: "Sedge", region: "sedge-coast", blocks: [`10.${208 + (n >> 8)}.${n & 255}.0/24`] });
    if (hosts) {
      put("table", `t${n}`, "main", {}, `n${n}`);
      put("subnet", `s${n}`, "beds", { zone: "sedge-coast-a", prefixes: [`10.${208 + (n >> 8)}.${n & 255}.0/26`], table: `t${n}` }, `n${n}`);
    }
    for (const step of [1, 17])
      put("peering", `p${n}-${step}`, `plot ${n} with ${(n + step) % parties}`, { halves: [{ network: `n${n}`, made: true }, { network: `n${(n + step) % parties}`, made: true }] });
  }
  const edits = puts.map((object) => ({ op: "put", id: object.id, object }));
  const answer = await request.post(`/api/designs/${id}/changes`, { data: { base: 0, reason: "joined plots", edits }, timeout: 60_000 });
  if (!answer.ok()) throw new Error((await answer.text()).slice(0, 300));
  return id;
}

test("frames of the picture with 500 parties and 1,000 joints, all stacks open", async ({ page, request }) => {
  const id = await joined(request, 500);
  await page.goto(`/designs/${id}/estate?open=all`);
  await page.getByRole("button", { name: /^network plot 0/ }).first().waitFor({ timeout: 30_000 });
  const picture = page.getByRole("region", { name: "Picture" });
  await picture.focus();
  await page.waitForTimeout(1500);
  const pan = ["ArrowDown", "ArrowDown", "ArrowRight", "ArrowDown", "ArrowLeft"];
  console.log("picture, pan:  ", await frames(page, 120, (n) => page.keyboard.press(pan[n % pan.length] ?? "ArrowDown")));
  const box = (await picture.boundingBox()) ?? { x: 0, y: 0, width: 900, height: 600 };
  await page.mouse.move(box.x + 500, box.y + 300);
  console.log("picture, wheel:", await frames(page, 120, (n) => page.mouse.wheel(0, n % 60 < 40 ? 120 : -120)));
  const zoom = ["-", "-", "+", "+", "+", "-"];
  console.log("picture, zoom: ", await frames(page, 60, (n) => page.keyboard.press(zoom[n % zoom.length] ?? "+")));
  await page.getByRole("button", { name: "Show all" }).click();
  await page.waitForTimeout(800);
  console.log("picture, whole:", await frames(page, 60, (n) => page.keyboard.press(pan[n % pan.length] ?? "ArrowDown")));
});

test("frames of the matrix, 500 by 500", async ({ page, request }) => {
  const id = await joined(request, 500, true);
  await page.goto(`/designs/${id}/proof?as=matrix&by=place`, { waitUntil: "commit" });
  console.log(`matrix: shown ${await shown(page, "500 hosts and places")} ms after the navigation began`);
  const grid = page.getByRole("application", { name: /^Matrix/ });
  await grid.focus();
  await page.waitForTimeout(500);
  const keys = ["ArrowRight", "ArrowDown", "PageDown", "ArrowRight", "ArrowDown"];
  console.log("matrix, keys:  ", await frames(page, 150, (n) => page.keyboard.press(keys[n % keys.length] ?? "ArrowDown")));
  console.log(
    "matrix, scroll:",
    await frames(page, 150, (n) => grid.evaluate((e, by) => e.scrollBy(by, by), n % 30 < 15 ? 400 : -400).then(() => page.waitForTimeout(16))),
  );
  const box = (await grid.boundingBox()) ?? { x: 0, y: 0, width: 900, height: 600 };
  console.log(
    "matrix, hover: ",
    await frames(page, 150, (n) => page.mouse.move(box.x + 150 + ((n * 13) % 600), box.y + 150 + ((n * 7) % 400))),
  );
});
