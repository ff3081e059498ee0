import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Device = components["schemas"]["DeviceView"];
export type DeviceCommand = components["schemas"]["DeviceCommandView"];
export type OutsideView = components["schemas"]["OutsideView"];
export type Handover = components["schemas"]["HandoverView"];
export type ReadyFinding = components["schemas"]["ReadyFindingView"];
export type HandoverVersion = components["schemas"]["HandoverVersion"];
export type LabelSheet = components["schemas"]["LabelSheet"];
export type PackChange = components["schemas"]["PackChange"];
export type SealedTo = components["schemas"]["SealedTo"];
export type Baseline = components["schemas"]["Baseline"];
export type Cause = components["schemas"]["CauseView"];
export type Relay = components["schemas"]["RelayView"];
export type RelayOffer = components["schemas"]["RelayOffer"];
export type Condition = components["schemas"]["ConditionView"];
export type ServerFinding = Condition["findings"][number];
export type ServerProcess = Condition["processes"][number];
export type KeepingRule = components["schemas"]["KeepingRule"];
export type Rounds = components["schemas"]["WatchRule"];
export type Listener = components["schemas"]["Listener"];
export type TellRule = components["schemas"]["TellRuleView"];
export type TimeLine = components["schemas"]["TimelineView"];
export type DeviceChange = components["schemas"]["DeviceChange"];
export type Latch = components["schemas"]["Latch"];
export type Stream = components["schemas"]["StreamView"];
export type Site = components["schemas"]["SiteView"];
export type FirmwareCount = components["schemas"]["FirmwareView"];
export type Run = components["schemas"]["RunView"];
export type SignIn = components["schemas"]["KeyView"];
export type Step = components["schemas"]["NextStep"];
export type Interface = components["schemas"]["InterfaceView"];

export type Member = components["schemas"]["Member"];
export type Role = Member["role"];
export type Session = components["schemas"]["SessionState"];
export type Token = components["schemas"]["Token"];
export type PairedWorker = components["schemas"]["PairedView"];
export type LaidOpen = components["schemas"]["LaidOpen"];
export type Factor = components["schemas"]["Factor"];
export type Chain = components["schemas"]["ChainView"];
export type Line = components["schemas"]["Line"];
export type Link = components["schemas"]["Link"];
export type Camera = components["schemas"]["CameraView"];
export type Left = components["schemas"]["Left"];
export type SitePlan = components["schemas"]["SitePlan"];
export type Target = components["schemas"]["TargetView"];
export type Fitting = components["schemas"]["FittingView"];
export type Example = components["schemas"]["Example"];

export type Plan = components["schemas"]["PlanView"];
export type Preset = components["schemas"]["PresetView"];
export type Preview = components["schemas"]["PreviewView"];
export type Costs = components["schemas"]["CostsView"];
export type Recording = components["schemas"]["RecordingForm"];
export type Turn = components["schemas"]["Turn"];
export type CastView = components["schemas"]["CastView"];
export type HeardView = components["schemas"]["HeardView"];
export type Budget = components["schemas"]["BudgetView"];

/** A problem by RFC 9457, with what to do. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly cause: string,
    detail: string,
    readonly fix: string,
    readonly count = 0,
    readonly changed?: components["schemas"]["ChangedView"],
  ) {
    super(detail);
  }
}

export const api = createClient<paths>({ baseUrl: location.origin });

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Returns the data of an answer, or throws what went wrong as a Problem. */
export async function must<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new Problem(
      0,
      "no_server",
      "The Unlatch server does not answer.",
      "Check that it is running; this page goes on by itself when it is back.",
    );
  }
  if (answer.response.ok) return answer.data as T;
  const e = (answer.error ?? {}) as { detail?: string; cause?: string; fix?: string; count?: number; changed?: Problem["changed"] };
  throw new Problem(answer.response.status, e.cause ?? "unknown", e.detail ?? "Something went wrong.", e.fix ?? "", e.count, e.changed);
}
