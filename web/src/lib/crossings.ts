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
export function crossings(links: { tunnels: string[] }[]): number {
  const lines = links.map((l) => sampled(l.tunnels[0] ?? ""));
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

/** The part of a path of the picture between two heights, as a path: a line far longer than the window costs as its part in sight. */
export function between(path: string, from: number, to: number): string {
  const n = path.match(/-?\d+(?:\.\d+)?/g)?.map(Number) ?? [];
  if (n.length !== 8) return path;
  const points = [0, 2, 4, 6].map((k) => [n[k] ?? 0, n[k + 1] ?? 0] as Point);
  const [a, , , d] = points as [Point, Point, Point, Point];
  if (Math.abs(d[1] - a[1]) < 2 * (to - from)) return path;
  const y = (t: number) => at(points, t)[1];
  /** Heights only grow or only fall along a path of the picture. */
  const when = (height: number): number => {
    let [low, high] = [0, 1];
    for (let k = 0; k < 24; k++) {
      const mid = (low + high) / 2;
      if (y(mid) < height === a[1] < d[1]) low = mid;
      else high = mid;
    }
    return low;
  };
  const [s, t] = [when(from), when(to)].sort((p, q) => p - q) as [number, number];
  const part = upTo(points, t);
  const rest = upTo([...part].reverse(), 1 - s / (t || 1)).reverse();
  const [p, q, r, e] = rest as [Point, Point, Point, Point];
  return `M${p} C${q} ${r} ${e}`;
}

const mix = (p: Point, q: Point, t: number): Point => [p[0] + (q[0] - p[0]) * t, p[1] + (q[1] - p[1]) * t];

/** The first part of a curve, up to t (de Casteljau). */
function upTo(points: Point[], t: number): Point[] {
  const out: Point[] = [];
  let now = points;
  while (now.length) {
    out.push(now[0] as Point);
    now = now.slice(1).map((q, k) => mix(now[k] as Point, q, t));
  }
  return out;
}

function at(points: Point[], t: number): Point {
  return upTo(points, t).at(-1) as Point;
}
