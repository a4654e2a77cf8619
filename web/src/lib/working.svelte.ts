/** The change of which what is edited is part, by design, as long as the tab is open. */
interface Working {
  id: string;
  title: string;
}

const key = (design: string) => `dravin-working-${design}`;

let seen = $state.raw<Record<string, Working | null>>({});

/** The change that somebody works on; none: what is edited is part of the change that makes it, or one of its own. */
export function working(design: string): Working | undefined {
  const known = seen[design];
  if (known !== undefined) return known ?? undefined;
  const text = sessionStorage.getItem(key(design));
  return text ? (JSON.parse(text) as Working) : undefined;
}

export function workOn(design: string, on: Working | undefined): void {
  if (on) sessionStorage.setItem(key(design), JSON.stringify(on));
  else sessionStorage.removeItem(key(design));
  seen = { ...seen, [design]: on ?? null };
}
