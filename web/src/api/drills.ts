import type { Drill, DrillStep } from "./client";
import { readSteps } from "./steps";

/** How far drills are, or their place in the queue. */
export interface DrillProgress {
  done?: number;
  of?: number;
  waiting?: number;
}

/** Carries out every single failure, and tells how far it is meanwhile. Ending the signal breaks it off. */
export async function watchDrills(
  design: string,
  side: string,
  progress: (step: DrillProgress) => void,
  signal: AbortSignal,
): Promise<{ drills: Drill[]; quiet: number }> {
  const answer = await fetch(`/api/designs/${design}/drills/steps?${new URLSearchParams({ side })}`, {
    method: "POST",
    signal,
  });
  return readSteps(answer, (step: DrillStep) => {
    if (step.end) {
      return { drills: step.drills ?? [], quiet: step.quiet ?? 0 };
    }
    progress({ done: step.done ?? 0, of: step.of ?? 0, waiting: step.waiting ?? 0 });
    return undefined;
  });
}
