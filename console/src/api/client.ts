import createClient from "openapi-fetch";
import type { components, paths } from "./contract.gen";

export type Key = components["schemas"]["Key"];
export type KeyReading = components["schemas"]["KeyReading"];
export type Instance = components["schemas"]["Instance"];
export type Opening = components["schemas"]["Opening"];
export type Run = components["schemas"]["Run"];
export type Step = components["schemas"]["Step"];
export type Entry = components["schemas"]["Entry"];
export type Me = components["schemas"]["Me"];
export type Problem = components["schemas"]["Problem"];
export type Finding = components["schemas"]["Finding"];
export type Traced = components["schemas"]["Traced"];
export type LoginReach = components["schemas"]["LoginReach"];
export type Login = components["schemas"]["Login"];
export type Stranger = components["schemas"]["Stranger"];
export type FileVersion = components["schemas"]["FileVersion"];
export type ReachState = components["schemas"]["ReachState"];
export type Glance = components["schemas"]["Glance"];
export type PendingThings = components["schemas"]["PendingThings"];
export type ReachMoment = components["schemas"]["ReachMoment"];
export type ReachMap = components["schemas"]["ReachMap"];
export type ReachGroups = components["schemas"]["ReachGroups"];
export type KeyState = components["schemas"]["KeyState"];
export type Status = components["schemas"]["Status"];
export type MapLogin = components["schemas"]["MapLogin"];
export type Difference = components["schemas"]["Difference"];
export type Settlement = components["schemas"]["Settlement"];
export type Catalogue = components["schemas"]["Catalogue"];
export type InstanceAccess = components["schemas"]["InstanceAccess"];
export type Way = components["schemas"]["Way"];
export type PastKey = components["schemas"]["PastKey"];
export type PastWay = components["schemas"]["PastWay"];
export type EndBy = components["schemas"]["EndBy"];
export type GrantRecord = components["schemas"]["GrantRecord"];
export type ProofDue = components["schemas"]["ProofDue"];
export type Rotation = components["schemas"]["Rotation"];
export type RotationItem = components["schemas"]["RotationItem"];
export type PendingHolder = components["schemas"]["PendingHolder"];
export type RotationPlan = components["schemas"]["RotationPlan"];
export type PlannedItem = components["schemas"]["PlannedItem"];
export type RotationSettings = components["schemas"]["RotationSettings"];
export type RotationRule = components["schemas"]["RotationRule"];
export type DueRotation = components["schemas"]["DueRotation"];
export type AskedKey = components["schemas"]["AskedKey"];
export type RotationReport = components["schemas"]["RotationReport"];
export type ReportedItem = components["schemas"]["ReportedItem"];
export type ReportedProof = components["schemas"]["ReportedProof"];
export type RotationWanted = components["schemas"]["RotationWanted"];
export type Routes = components["schemas"]["Routes"];
export type RouteOption = components["schemas"]["RouteOption"];
export type Restore = components["schemas"]["Restore"];
export type RestoreReport = components["schemas"]["RestoreReport"];
export type ListedMachine = components["schemas"]["ListedMachine"];
export type ShownHostKey = components["schemas"]["ShownHostKey"];
export type Session = components["schemas"]["Session"];
export type Token = components["schemas"]["Token"];
export type Named = components["schemas"]["Named"];
export type Holder = components["schemas"]["Holder"];
export type Operator = components["schemas"]["Operator"];
export type Leaving = components["schemas"]["Leaving"];
export type LeavingItem = components["schemas"]["LeavingItem"];
export type Consent = components["schemas"]["Consent"];
export type WaitingHandOver = components["schemas"]["WaitingHandOver"];
export type CloudKey = components["schemas"]["CloudKey"];
export type KeyGroup = components["schemas"]["KeyGroup"];
export type KeyGroupEffect = components["schemas"]["KeyGroupEffect"];
export type RecordRule = components["schemas"]["RecordRule"];
export type Charter = components["schemas"]["Charter"];
export type CharterFile = components["schemas"]["CharterFile"];
export type CharterFlaw = components["schemas"]["CharterFlaw"];
export type CharterChange = components["schemas"]["CharterChange"];
export type CharterReach = components["schemas"]["CharterReach"];
export type CharterComparison = components["schemas"]["CharterComparison"];
export type CharterVersion = components["schemas"]["CharterVersion"];
export type CharterSettlement = components["schemas"]["CharterSettlement"];
export type CharterSettlementChange = components["schemas"]["CharterSettlementChange"];
export type HostAuthority = components["schemas"]["HostAuthority"];
export type HostKeysOf = components["schemas"]["HostKeys"];
export type JumpRule = components["schemas"]["JumpRule"];
export type Cloud = components["schemas"]["Cloud"];
export type CloudInstance = components["schemas"]["CloudInstance"];
export type BroughtIn = components["schemas"]["BroughtIn"];
export type Subscriber = components["schemas"]["Subscriber"];
export type Delivery = components["schemas"]["Delivery"];
export type Visit = components["schemas"]["Visit"];
export type VisitWay = components["schemas"]["VisitWay"];
export type VisitMessage = components["schemas"]["VisitMessage"];
export type VisitFile = components["schemas"]["VisitFile"];
export type Passkey = components["schemas"]["Passkey"];
export type VisitEnd = components["schemas"]["VisitEnd"];
export type HostKey = components["schemas"]["HostKey"];

let confirm: (() => Promise<boolean>) | undefined;

/** Says how somebody is asked who they are where the service wants that confirmed; it ends with whether it was. */
export const confirmBy = (ask: typeof confirm) => {
  confirm = ask;
};

/** Sends a request, and once more when the service first wanted to have confirmed who asks. */
async function send(request: Request): Promise<Response> {
  const again = request.clone();
  const answer = await fetch(request);
  if (answer.status !== 403 || !confirm) return answer;
  const problem = (await answer
    .clone()
    .json()
    .catch(() => undefined)) as Problem | undefined;
  return problem?.code === "confirmation-needed" && (await confirm()) ? fetch(again) : answer;
}

export const api = createClient<paths>({ baseUrl: "/api/v1", fetch: send });

/** A problem that the service told of, or that kept it from being asked. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Turns an answer into its data, or throws a ProblemError. */
export async function take<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await asked;
  } catch {
    throw new ProblemError({
      type: "about:blank",
      title: "No answer",
      status: 0,
      code: "unreachable",
      detail: "the service does not answer",
      remedy: "Look whether it is running; this page tries again",
    });
  }
  if (answer.response.ok) return answer.data as T;
  const p = answer.error as Problem | undefined;
  throw new ProblemError(
    p?.detail
      ? p
      : {
          type: "about:blank",
          title: answer.response.statusText,
          status: answer.response.status,
          code: "failed",
          detail: "the service could not do this",
        },
  );
}

export function problemOf(error: unknown): Problem {
  if (error instanceof ProblemError) return error.problem;
  return { type: "about:blank", title: "Failed", status: 0, code: "failed", detail: String(error) };
}

/** Names one request, so that sending it twice makes nothing twice. */
export function requestKey(): string {
  return Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join("");
}
