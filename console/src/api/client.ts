import createClient, { type Middleware } from "openapi-fetch";
import { service } from "../lib/service";
import type { components, paths } from "./schema";

const csrf: Middleware = {
  onRequest({ request }) {
    const token = /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1];
    if (request.method !== "GET" && token) request.headers.set("X-CSRFToken", token);
    return request;
  },
};

export const api = createClient<paths>({ baseUrl: location.origin, fetch: (request) => globalThis.fetch(request) });
api.use(csrf);

export type Run = components["schemas"]["RunLine"];
export type Status = components["schemas"]["StatusView"];
export type Night = components["schemas"]["NightView"];
export type RunRecord = components["schemas"]["RunView"];
export type RunState = Run["state"];
export type ExtractLine = components["schemas"]["ExtractLine"];
export type Extract = components["schemas"]["ExtractView"];
export type Parameter = components["schemas"]["ParameterView"];
export type DueTime = components["schemas"]["DueTimeView"];
export type ScheduleDay = components["schemas"]["DayView"];
export type Schedule = components["schemas"]["ScheduleView"];
export type ScheduleLine = components["schemas"]["ScheduleLine"];
export type Source = components["schemas"]["SourceView"];
export type Address = components["schemas"]["AddressView"];
export type CheckStep = components["schemas"]["CheckStepView"];
export type SourceQuery = components["schemas"]["QueryView"];
export type SourceQueryBody = components["schemas"]["QueryBody"];
export type Profile = components["schemas"]["ProfileView"];
export type Plan = components["schemas"]["PlanView"];
export type FoundThing = components["schemas"]["FoundThing"];
export type Filter = components["schemas"]["FilterBody"];
export type TableRecord = components["schemas"]["TableView"];
export type Diagnostic = components["schemas"]["DiagnosticView"];
export type Line = components["schemas"]["LineView"];
export type Differences = components["schemas"]["DifferencesView"];
export type SharedValue = components["schemas"]["SharedValueView"];
export type DryRun = components["schemas"]["DryRunView"];
export type RunBody = components["schemas"]["RunBody"];
export type UnsavedBody = components["schemas"]["UnsavedBody"];
export type PreviewBody = components["schemas"]["PreviewBody"];
export type FormatRecord = components["schemas"]["FormatView"];
export type OptionRecord = components["schemas"]["OptionView"];
export type ResultLine = components["schemas"]["ResultLine"];
/** What differs from the defaults: options by format, the choice of columns (or lists by the title of a statement), options of all files. */
export interface Output {
  [part: string]: unknown;
  formats?: Record<string, Record<string, unknown>>;
  columns?: { name: string; as?: string; type?: string; pattern?: string }[];
  files?: Record<string, unknown>;
  documents?: Record<string, unknown>;
}
export type TableFamily = components["schemas"]["FamilyView"];
export type WorkerRecord = components["schemas"]["WorkerView"];
export type AlertRecord = components["schemas"]["AlertView"];
export type ChannelKind = components["schemas"]["ChannelKindView"];
export type Calendar = components["schemas"]["CalendarView"];
export type Environment = components["schemas"]["EnvironmentView"];
export type PeopleGroup = components["schemas"]["PeopleGroupView"];
export type Person = components["schemas"]["PersonView"];
export type SessionRecord = components["schemas"]["SessionView"];
export type TokenRecord = components["schemas"]["TokenView"];
export type ChannelRecord = components["schemas"]["ChannelView"];
export type SendingRecord = components["schemas"]["SendingView"];
export type Engine = components["schemas"]["EngineView"];
export type KeptDraft = components["schemas"]["DraftView"];
export type CheckedSteps = components["schemas"]["CheckedSteps"];
export type Lookup = components["schemas"]["LookupView"];
export type LookupRows = components["schemas"]["LookupRowsView"];
export type LookupBody = components["schemas"]["PatchedLookupBody"];
export type Completion = components["schemas"]["CompletionView"];

/** What the service said no with (RFC 9457): the cause, and the next step. */
export class Problem extends Error {
  readonly status: number;
  readonly code: string;
  readonly hint: string;
  readonly facts: Record<string, unknown>;
  constructor(
    status: number,
    body: { code?: string; message?: string; detail?: string; hint?: string; facts?: Record<string, unknown> },
  ) {
    super(body.message ?? body.detail ?? `The service answered ${status}.`);
    this.status = status;
    this.code = body.code ?? "error";
    this.hint = body.hint ?? "";
    this.facts = body.facts ?? {};
  }
}

/** The data of an answer; throws Problem, also when nothing answered. */
export async function must<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch {
    service.missed();
    throw new Problem(0, { code: "not_sent", message: "The service does not answer.", hint: "Try again in a moment." });
  }
  if (answer.response.ok) service.answered();
  else {
    const problem = new Problem(answer.response.status, answer.error ?? {});
    if (problem.code === "service_away") service.missed();
    throw problem;
  }
  return answer.data as T;
}
