/** A pasted list of flows as sayings, a line each: source, destination, service, and perhaps never or survives. */
export function asSayings(text: string): string {
  return text
    .replace(/\r/g, "")
    .split("\n")
    .map((line) => {
      if (!line.trim() || /\bmust\b/i.test(line)) return line;
      const cells = line
        .split(line.includes("\t") ? "\t" : line.includes(";") ? ";" : ",")
        .map((c) => c.trim());
      const [from = "", to = "", service = "", ...rest] = cells;
      if (/^(source|from)$/i.test(from)) return ""; // a heading
      const how = rest.join(" ").toLowerCase();
      return [
        from,
        how.includes("never") ? "must never reach" : "must reach",
        to,
        service && !/^(any|\*)$/i.test(service) ? `on ${service}` : "",
        how.includes("survive") ? "still after any single failure" : "",
      ]
        .filter(Boolean)
        .join(" ");
    })
    .join("\n");
}
