import { Refusal, type Plan, type PlanAsk, type PlanStep, type Problem } from "./client";

/** Asks for a plan, and tells how far it is meanwhile, or its place in the queue. Ending the signal breaks it off. */
export async function watchPlan(
  design: string,
  ask: PlanAsk,
  progress: (step: PlanStep) => void,
  signal: AbortSignal,
): Promise<Plan> {
  const answer = await fetch(`/api/designs/${design}/plan/steps`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(ask),
    signal,
  });
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
      const step = JSON.parse(line) as PlanStep;
      if (step.problem) throw new Refusal(step.problem);
      if (step.plan) return step.plan;
      progress(step);
    }
    if (done) throw new Error("The answer broke off; try again");
  }
}
