/** A prefix as numbers: IPv4 and IPv6 alike. */
export interface Range {
  text: string;
  bits: number; // prefix length
  width: 32 | 128;
  start: bigint;
  size: bigint;
}

/** Reads a canonical prefix or an address; undefined if it is neither. */
export function parseRange(text: string): Range | undefined {
  const [address = "", length] = text.trim().split("/");
  const v4 = parse4(address);
  const value = v4 ?? parse6(address);
  if (value === undefined) return undefined;
  const width = v4 === undefined ? 128 : 32;
  const bits = length === undefined ? width : Number(length);
  if (!Number.isInteger(bits) || bits < 0 || bits > width) return undefined;
  const size = 1n << BigInt(width - bits);
  const start = (value / size) * size;
  return { text: format(start, bits, width), bits, width, start, size };
}

function parse4(text: string): bigint | undefined {
  const parts = /^(\d{1,3})\.(\d{1,3})\.(\d{1,3})\.(\d{1,3})$/.exec(text);
  if (!parts) return undefined;
  let value = 0;
  for (let n = 1; n <= 4; n++) {
    const part = Number(parts[n]);
    if (part > 255) return undefined;
    value = value * 256 + part;
  }
  return BigInt(value);
}

function parse6(text: string): bigint | undefined {
  if (!/^[0-9a-f:]+$/i.test(text) || !text.includes(":")) return undefined;
  const halves = text.split("::");
  if (halves.length > 2) return undefined;
  const groups = (half: string | undefined) => (half ? half.split(":") : []);
  const [head, tail] = [groups(halves[0]), groups(halves[1])];
  const missing = 8 - head.length - tail.length;
  if (halves.length === 1 ? missing !== 0 : missing < 1) return undefined;
  const all = [...head, ...Array.from({ length: halves.length === 1 ? 0 : missing }, () => "0"), ...tail];
  if (!all.every((g) => /^[0-9a-f]{1,4}$/i.test(g))) return undefined;
  return all.reduce((n, g) => n * 65536n + BigInt(parseInt(g, 16)), 0n);
}

export function formatAddress(value: bigint, width: 32 | 128): string {
  if (width === 32) return [24n, 16n, 8n, 0n].map((s) => (value >> s) & 255n).join(".");
  const groups = Array.from({ length: 8 }, (_, n) => ((value >> BigInt(112 - 16 * n)) & 65535n).toString(16));
  // RFC 5952: the longest run of two or more zero groups becomes "::".
  let [best, length] = [0, 1];
  for (let n = 0; n < 8; n++) {
    let end = n;
    while (groups[end] === "0") end++;
    if (end - n > length) [best, length] = [n, end - n];
  }
  if (length < 2) return groups.join(":");
  return `${groups.slice(0, best).join(":")}::${groups.slice(best + length).join(":")}`;
}

function format(start: bigint, bits: number, width: 32 | 128): string {
  return `${formatAddress(start, width)}/${bits}`;
}

/** The prefix with that many bits around a range. */
export function around(r: Range, bits: number): Range {
  const b = Math.max(0, Math.min(r.width, bits));
  const size = 1n << BigInt(r.width - b);
  const start = (r.start / size) * size;
  return { text: format(start, b, r.width), bits: b, width: r.width, start, size };
}

/** The neighbour of a range, n sizes away, or the range itself at the end of the family. */
export function beside(r: Range, n: bigint): Range {
  const start = r.start + n * r.size;
  if (start < 0n || start + r.size > 1n << BigInt(r.width)) return r;
  return { ...r, start, text: format(start, r.bits, r.width) };
}

export const meets = (a: Range, b: Range): boolean =>
  a.width === b.width && a.start < b.start + b.size && b.start < a.start + a.size;

export const sizeWords = (r: Range): string =>
  r.size > 1_000_000n
    ? `2^${r.width - r.bits} addresses`
    : `${r.size.toLocaleString("en")} ${r.size === 1n ? "address" : "addresses"}`;
