import { searchParams } from "sv-router";

/** One value of the view's state, kept in the URL. Empty means absent. */
export function urlState(name: string) {
  return {
    get value(): string {
      const v = searchParams.get(name);
      return v === null ? "" : String(v);
    },
    set value(v: string) {
      if (v === this.value) return;
      if (v) searchParams.set(name, v);
      else searchParams.delete(name);
    },
    /** Sets it without a new entry in the browser's history. */
    replace(v: string): void {
      if (v !== this.value) searchParams.set(name, v, { replace: true });
    },
  };
}

/** A list in the URL, separated by commas. Empty means absent. */
export function urlList(name: string) {
  const one = urlState(name);
  return {
    get value(): string[] {
      return one.value ? one.value.split(",") : [];
    },
    set value(list: string[]) {
      one.value = list.join(",");
    },
  };
}

export type URLList = ReturnType<typeof urlList>;
export type URLState = ReturnType<typeof urlState>;
