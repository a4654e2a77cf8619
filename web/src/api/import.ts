import type { ImportHow, ImportPlan, ImportStep } from "./client";
import { readSteps } from "./steps";

export interface Imported {
  plan: ImportPlan;
  left: number;
  stored: boolean;
}

/** Sends a file for a preview, or to be brought in, and tells how many lines have been read meanwhile, or its place in the queue. */
export async function importFile(
  design: string,
  file: File,
  how: ImportHow,
  progress: (rows: number, waiting: number) => void,
  signal: AbortSignal,
): Promise<Imported> {
  const form = new FormData();
  form.append("how", JSON.stringify(how));
  form.append("file", file);
  const answer = await fetch(`/api/designs/${design}/import`, { method: "POST", body: form, signal });
  return readSteps(answer, (step: ImportStep) => {
    if (step.plan) return { plan: step.plan, left: step.left ?? 0, stored: step.stored !== undefined };
    progress(step.rows ?? 0, step.waiting ?? 0);
    return undefined;
  });
}
