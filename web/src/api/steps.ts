import { Refusal, type Problem } from "./client";

/** Reads an answer that comes in steps, a JSON line each, until one of them ends it. */
export async function readSteps<Step extends { problem?: Problem | undefined }, End>(
  answer: Response,
  take: (step: Step) => End | undefined,
): Promise<End> {
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
      const step = JSON.parse(line) as Step;
      if (step.problem) throw new Refusal(step.problem);
      const end = take(step);
      if (end !== undefined) return end;
    }
    if (done) throw new Error("The answer broke off; try again");
  }
}
