/** A party that a plan can be asked for. */
export interface Askable {
  id: string;
  name: string;
  owner?: string;
}

/** What may be chosen for several parties at once. */
export interface Offer {
  value: string;
  label: string;
}

/**
 * Parties that are meant at once: by what is typed, by who answers for them, or since they collide with others.
 * The value of an offer names the question, so that what it stands for is worked out when it is chosen.
 */
export function manyOf(parties: Askable[], colliding: string[]) {
  const fits = (name: string, text: string) => name.toLowerCase().includes(text.trim().toLowerCase());
  const meant: Record<string, (what: string) => string[]> = {
    called: (text) => parties.filter((p) => fits(p.name, text)).map((p) => p.id),
    of: (owner) => parties.filter((p) => p.owner === owner).map((p) => p.id),
    colliding: () => colliding,
  };
  const owners = [...new Set(parties.map((p) => p.owner).filter((o) => o !== undefined))];
  return {
    /** What is offered for what is typed: several at once first, then each that is not chosen yet. */
    offer(text: string, chosen: string[]): Offer[] {
      const out: Offer[] = [];
      const add = (key: string, what: string, label: string) => {
        const n = meant[key]?.(what).length ?? 0;
        if (n > 1) out.push({ value: `${key}:${what}`, label: `${label} (${n} parties)` });
      };
      if (text.trim()) add("called", text.trim(), `All that are called “${text.trim()}”`);
      else add("colliding", "", "All that collide");
      for (const o of owners) if (fits(o, text)) add("of", o, `All of ${o}`);
      const each = parties.filter((p) => !chosen.includes(p.id) && fits(p.name, text));
      return [...out, ...each.map((p) => ({ value: p.id, label: p.name }))];
    },
    /** The parties that were chosen, with those that were before, each once. */
    take(value: string, chosen: string[]): string[] {
      const at = value.indexOf(":");
      const question = at > 0 ? meant[value.slice(0, at)] : undefined;
      return [...new Set([...chosen, ...(question ? question(value.slice(at + 1)) : [value])])];
    },
  };
}
