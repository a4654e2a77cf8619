import { chromium } from "@playwright/test";
const b = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox"] });
const p = await b.newPage({ viewport: { width: 1280, height: 800 } });
await p.goto("http://127.0.0.1:8123/");
const list = await (await p.request.get("http://127.0.0.1:8123/api/designs")).json();
const id = list[0].id;
const r = await p.request.post(`http://127.0.0.1:8123/api/designs/${id}/rehearsals`, { data: { base: list[0].position, horizon: "built", sample: 30, drills: 0, steps: false } });
console.log(r.status(), (await r.text()).slice(0, 200));
const n = (await r.json()).id;
for (let i = 0; i < 90; i++) { const x = await (await p.request.get(`http://127.0.0.1:8123/api/designs/${id}/rehearsals`)).json(); if (!["waiting", "playing"].includes(x.list[0].state)) break; await p.waitForTimeout(1000); }
await p.goto(`http://127.0.0.1:8123/d/${id}/proof?as=rehearsal&part=report`);
await p.waitForTimeout(2500);
console.log(p.url());
await p.screenshot({ path: "/tmp/rep.png" });
await b.close();
