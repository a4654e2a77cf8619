/** Points along a path of the picture: "Mx,y Cx,y x,y x,y". */
export function sampled(path: string, steps = 16): [number, number][] {
  const n = path.match(/-?\d+(?:\.\d+)?/g)?.map(Number) ?? [];
  const [xa = 0, ya = 0, x1 = 0, y1 = 0, x2 = 0, y2 = 0, xb = 0, yb = 0] = n;
  return Array.from({ length: steps + 1 }, (_, k) => {
    const t = k / steps;
    const u = 1 - t;
    return [
      u ** 3 * xa + 3 * u * u * t * x1 + 3 * u * t * t * x2 + t ** 3 * xb,
      u ** 3 * ya + 3 * u * u * t * y1 + 3 * u * t * t * y2 + t ** 3 * yb,
    ];
  });
}

type Point = [number, number];

const side = (a: Point, b: Point, c: Point) => (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]);

export const cross = (a: Point, b: Point, c: Point, d: Point): boolean =>
  side(a, b, c) * side(a, b, d) < 0 && side(c, d, a) * side(c, d, b) < 0;

/** How often the lines of links cross, one line for each link. */
export function crossings(links: { strands: string[] }[]): number {
  const lines = links.map((l) => sampled(l.strands[0] ?? ""));
  let n = 0;
  for (let i = 0; i < lines.length; i++)
    for (let j = i + 1; j < lines.length; j++) {
      const [p, q] = [lines[i] ?? [], lines[j] ?? []];
      for (let k = 1; k < p.length; k++)
        for (let m = 1; m < q.length; m++)
          if (cross(p[k - 1] as Point, p[k] as Point, q[m - 1] as Point, q[m] as Point)) n++;
    }
  return n;
}
