import type { Plan, PlanAsk, PlanStep } from "./client";
import { readSteps } from "./steps";

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
  return readSteps(answer, (step: PlanStep) => {
    if (!step.plan) progress(step);
    return step.plan;
  });
}
