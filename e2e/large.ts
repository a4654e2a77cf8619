import type { APIRequestContext } from "@playwright/test";

/** A made-up inventory as CSV: so many parties with so many LANs each, of which some collide. */
export function inventory(parties: number, each: number): string {
  const lines = ["party,name,prefix,segment"];
  let seed = 7;
  const random = (n: number) => (seed = (seed * 1103515245 + 12345) % 2147483648) % n;
  for (let p = 0; p < parties; p++) {
    for (let n = 0; n < each; n++) {
      const bits = 20 + random(9);
      const address = (10 * 2 ** 24 + random(2 ** 24)) >>> 0;
      const start = address - (address % 2 ** (32 - bits));
      const text = [24, 16, 8, 0].map((s) => (start >>> s) & 255).join(".");
      lines.push(`Field station ${p + 1},plot ${n + 1},${text}/${bits},${["science", "grounds", "shared"][random(3)]}`);
    }
  }
  return lines.join("\n");
}

/** Makes a design of it and returns its ID. */
export async function largeDesign(request: APIRequestContext, parties: number, each: number): Promise<string> {
  const made = await request.post("/api/designs", { data: { from: "nothing", name: `${parties} stations` } });
  const { id } = (await made.json()) as { id: string };
  const answer = await request.post(`/api/designs/${id}/import`, {
    multipart: {
      how: JSON.stringify({ accept: true, base: 0 }),
      file: { name: "stock.csv", mimeType: "text/csv", buffer: Buffer.from(inventory(parties, each)) },
    },
    timeout: 120_000,
  });
  const last = (await answer.text()).trim().split("\n").at(-1) ?? "";
  if (!last.includes('"stored"')) throw new Error(last.slice(0, 400));
  return id;
}
