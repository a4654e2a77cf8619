import { Refusal, type ImportHow, type ImportPlan, type ImportStep, type Problem } from "./client";

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
  if (!answer.ok || !answer.body) {
    const problem = (await answer.json().catch(() => undefined)) as Problem | undefined;
    if (problem?.detail) throw new Refusal(problem);
    throw new Error(`Dravin answered ${answer.status}; look at the server's log`);
  }
  const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
  let text = "";
  for (;;) {
    const { done, value } = await reader.read();
    text += value ?? "";
    const lines = text.split("\n");
    text = lines.pop() ?? "";
    for (const line of lines) {
      const step = JSON.parse(line) as ImportStep;
      if (step.problem) throw new Refusal(step.problem);
      if (step.plan) return { plan: step.plan, left: step.left ?? 0, stored: step.stored !== undefined };
      progress(step.rows ?? 0, step.waiting ?? 0);
    }
    if (done) throw new Error("The answer broke off; try again");
  }
}
