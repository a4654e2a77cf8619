/** Line numbers as ranges from and to. */
export function toRanges(lines: number[]): [number, number][] {
  const out: [number, number][] = [];
  for (const n of [...lines].sort((a, b) => a - b)) {
    const last = out.at(-1);
    if (last && n <= last[1] + 1) last[1] = Math.max(last[1], n);
    else out.push([n, n]);
  }
  return out;
}
