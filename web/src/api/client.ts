import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Problem = Schemas["ProblemDetails"];
export type DesignState = Schemas["DesignState"];
export type Estate = Schemas["Estate"];
export type Sheet = Schemas["Sheet"];
export type Overlaps = Schemas["Overlaps"];
export type Claim = Schemas["OverlapClaim"];
export type Group = Schemas["OverlapGroup"];
export type Plan = Schemas["PlanPlan"];
export type PlanOption = Schemas["PlanOption"];
export type PlanAsk = Schemas["PlanAsk"];
export type PlanStep = Schemas["PlanStep"];
export type Ledger = Schemas["LedgerLedger"];
export type PublishedService = Schemas["LedgerService"];
export type Identity = Schemas["WalkIdentity"];
export type Finding = Schemas["FindingFinding"];
export type Result = Schemas["ProofResult"];
export type WalkProof = Schemas["WalkProof"];
export type Stage = Schemas["WalkStage"];
export type Header = Schemas["WalkHeader"];
export type Matrix = Schemas["Matrix"];
export type MatrixLine = Schemas["ProofLine"];
export type FlowSeen = Schemas["FlowSeen"];
export type HeldSeen = Schemas["WireHeld"];
export type Remedy = Schemas["RemedyRemedy"];
export type Drill = Schemas["ProofDrill"];
export type DrillStep = Schemas["DrillStep"];
export type Rehearsed = Schemas["Rehearsed"];
export type Rehearsing = Schemas["Rehearsing"];
export type RehearsalEvent = Schemas["StageEvent"];
export type RehearsalCheck = Schemas["RehearsalCheck"];
export type WorkChange = Schemas["WorkChange"];
export type RunbookStep = Schemas["RunbookStep"];
export type PassesView = Schemas["PassesView"];
export type HeldFilter = Schemas["PassesHeld"];
export type FilterSide = Schemas["PassesSide"];
export type FilterRange = Schemas["PassesRange"];
export type HeldRule = Schemas["PassesRule"];
export type WorkedFilters = Schemas["WorkedView"];
export type CrossingMatrix = Schemas["CrossingMatrix"];
export type CrossingCell = Schemas["CrossingCell"];
export type Handed = Schemas["Handed"];
export type HandedFile = Schemas["HandoverFile"];
export type Edit = Schemas["EditIn"];
export type NamedObject = Schemas["Object"];
export type Stock = Schemas["Stock"];
export type StockRow = Schemas["StockRow"];
export type ImportHow = Schemas["ImportHow"];
export type ImportStep = Schemas["ImportStep"];
export type ImportPlan = Schemas["IngestPlan"];
export type ImportItem = Schemas["IngestItem"];

export type LinkRow = Schemas["LinkRow"];
export type LinkSheet = Schemas["LinkSheet"];
export type LinkLine = Schemas["SheetLine"];
export type LinkStep = Schemas["LifecycleStep"];
export type Status = Schemas["StatusVerdict"];
export type Fix = Schemas["FindingFix"];
export type Compared = Schemas["Compared"];
export type Study = Schemas["StudyView"];
export type StudyPoint = Schemas["CostPoint"];
export type ProfileView = Schemas["ProfileView"];

export type Heard = Schemas["Heard"];
export type SaidLine = Schemas["CommandLine"];
export type Offer = Schemas["CommandOffer"];
export type Form = Schemas["Form"];
export type FieldShape = Schemas["Field"];
export type Removal = Schemas["Removal"];
export type Effect = Schemas["Effect"];
export type RouteEffect = Schemas["SnapshotEffect"];
export type TableRow = Schemas["TableRow"];
export type TablePage = Schemas["TablePage"];
export type TableEntry = Schemas["TableEntry"];
export type Explanation = Schemas["RouteExplanation"];
export type Spread = Schemas["RouteSpread"];
export type SessionView = Schemas["SessionView"];
export type Exchange = Schemas["RouteExchange"];
export type Copies = Schemas["DraftCopies"];
export type Listed = Schemas["StoreListed"];
export type Comparison = Schemas["Comparison"];
export type Found = Schemas["Found"];
export type Kind = Schemas["Object"]["kind"];
export type State = NonNullable<Schemas["Link"]["state"]>;
export type Cause = NonNullable<Status["code"]>;
export type StopCode = Schemas["RouteHalt"]["code"];
export type Severity = Finding["severity"];
export type Hook = NonNullable<Stage["hook"]>;
export type Routing = Schemas["Link"]["routing"];

export const client = createClient<paths>({ baseUrl: "/" });

/** A refusal by the server, in its own words. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The position of the design that each answer is of, as its mark says. */
const positions = new WeakMap<object, number>();

/** The position that an answer is of; undefined if it is of none. */
export const positionOf = (answer: unknown): number | undefined =>
  answer !== null && typeof answer === "object" ? positions.get(answer) : undefined;

/** Gives the data of an answer, or throws the server's refusal. */
export async function data<T>(answer: Promise<Answer<T>>): Promise<T> {
  let got: Answer<T>;
  try {
    got = await answer;
  } catch {
    throw new Error("Dravin does not answer; is it still running?");
  }
  if (got.response.ok) {
    const at = got.response.headers.get("X-Position");
    if (at && got.data !== null && typeof got.data === "object") positions.set(got.data, Number(at));
    return got.data as T;
  }
  const problem = got.error as Problem | undefined;
  if (problem && typeof problem === "object" && "detail" in problem) throw new Refusal(problem);
  throw new Error(`Dravin answered ${got.response.status}; look at the server's log`);
}
