import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Revision = components["schemas"]["Revision"];
export type RevisionDetail = components["schemas"]["RevisionDetail"];
export type Rule = components["schemas"]["Rule"];
export type RulePoint = components["schemas"]["RulePoint"];
export type Recording = components["schemas"]["Recording"];
export type Replay = components["schemas"]["Replay"];
export type ReplayRequest = components["schemas"]["ReplayRequest"];
export type ExplanationRequest = components["schemas"]["ExplanationRequest"];
export type Explanation = components["schemas"]["Explanation"];
export type Ground = components["schemas"]["Ground"];
export type Transition = components["schemas"]["Transition"];
export type Reason = components["schemas"]["Reason"];
export type Lane = components["schemas"]["Lane"];
export type Panel = components["schemas"]["Panel"];
export type Series = components["schemas"]["Series"];
export type Value = components["schemas"]["Value"];
export type Point = components["schemas"]["Point"];
export type Scaled = components["schemas"]["Scaled"];
export type Curve = components["schemas"]["Curve"];
export type Histogram = components["schemas"]["Histogram"];
export type Calibration = components["schemas"]["Calibration"];
export type CalibrationRequest = components["schemas"]["CalibrationRequest"];
export type Lesson = components["schemas"]["Lesson"];
export type LessonRequest = components["schemas"]["LessonRequest"];
export type TimeWindow = components["schemas"]["TimeWindow"];
export type Preview = components["schemas"]["Preview"];
export type PreviewColumn = components["schemas"]["PreviewColumn"];
export type Quantity = components["schemas"]["Quantity"];
export type Sheet = components["schemas"]["Sheet"];
export type Finding = components["schemas"]["Finding"];
export type Checked = components["schemas"]["Checked"];
export type CheckRequest = components["schemas"]["CheckRequest"];
export type Declared = components["schemas"]["Declared"];
export type Named = components["schemas"]["Named"];
export type Phrase = components["schemas"]["Phrase"];
export type Part = components["schemas"]["Part"];
export type Change = components["schemas"]["Change"];
export type Play = components["schemas"]["Play"];
export type Summary = components["schemas"]["Summary"];
export type Pattern = components["schemas"]["Pattern"];
export type Draft = components["schemas"]["Draft"];
type Problem = components["schemas"]["Problem"];

const client = createClient<paths>({ baseUrl: "/api" });

/** What the service refused, in its own words. */
export class Refused extends Error {
  constructor(
    message: string,
    readonly status?: number,
  ) {
    super(message);
  }
}

/** Unwraps an answer, or throws what the service said was wrong. */
function need<T>(answer: { data?: T; error?: unknown }): T {
  if (answer.data !== undefined) return answer.data;
  const problem = answer.error as Problem | undefined;
  throw new Refused(problem?.detail ?? problem?.title ?? "The service does not answer. Nothing was changed; is it running?", problem?.status);
}

export const listRevisions = async () => need(await client.GET("/revisions"));
export const getRevision = async (number: number) => need(await client.GET("/revisions/{number}", { params: { path: { number } } }));
export const listRecordings = async () => need(await client.GET("/recordings"));
export const explain = async (body: ExplanationRequest, signal: AbortSignal) => need(await client.POST("/explanations", { body, signal }));
/** Plays a recording; the name is that under which the request stands in the bench's queue. */
export const replay = async (body: ReplayRequest, signal: AbortSignal, name?: string) => need(await client.POST("/replays", { body, signal, headers: name ? { "X-Request-ID": name } : {} }));
export const getBench = async (signal: AbortSignal) => need(await client.GET("/bench", { signal }));

export type SeriesQuery = paths["/series"]["get"]["parameters"]["query"];
export const getSeries = async (query: SeriesQuery, signal: AbortSignal) => need(await client.GET("/series", { params: { query }, signal }));

export type ValuesQuery = paths["/values"]["get"]["parameters"]["query"];
export const getValues = async (query: ValuesQuery, signal: AbortSignal) => need(await client.GET("/values", { params: { query }, signal }));

export const getScale = async (query: paths["/scales"]["get"]["parameters"]["query"], signal: AbortSignal) => need(await client.GET("/scales", { params: { query }, signal }));
export const getCurve = async (query: paths["/curves"]["get"]["parameters"]["query"], signal: AbortSignal) => need(await client.GET("/curves", { params: { query }, signal }));
export const getHistogram = async (query: paths["/histograms"]["get"]["parameters"]["query"], signal: AbortSignal) => need(await client.GET("/histograms", { params: { query }, signal }));
export const calibrate = async (body: CalibrationRequest) => need(await client.POST("/calibrations", { body }));
export const teach = async (body: LessonRequest) => need(await client.POST("/lessons", { body }));

export const check = async (body: CheckRequest, signal?: AbortSignal) => need(await client.POST("/checks", { body, signal }));
export const tryRule = async (body: components["schemas"]["TryRequest"], signal: AbortSignal) => need(await client.POST("/tries", { body, signal }));
export const rename = async (body: components["schemas"]["RenameRequest"]) => need(await client.POST("/renames", { body }));
export const merge = async (body: components["schemas"]["MergeRequest"]) => need(await client.POST("/merges", { body }));
export const adopt = async (body: components["schemas"]["AdoptRequest"]) => need(await client.POST("/adoptions", { body }));
export const listPatterns = async () => need(await client.GET("/patterns"));
export const getDifference = async (from: number, to: number) => need(await client.GET("/differences", { params: { query: { from, to } } }));
export const pushRevision = async (body: components["schemas"]["NewRevision"]) => need(await client.POST("/revisions", { body }));

/** The draft of somebody; undefined if there is none. */
export async function getDraft(owner: string): Promise<Draft | undefined> {
  const answer = await client.GET("/drafts/{owner}", { params: { path: { owner } } });
  return answer.response.status === 404 ? undefined : need(answer);
}

/** Keeps a draft; it is sent even while the page is being closed. */
export async function putDraft(owner: string, body: components["schemas"]["NewDraft"]): Promise<void> {
  const { response, error } = await client.PUT("/drafts/{owner}", { params: { path: { owner } }, body, keepalive: JSON.stringify(body).length < 60_000 });
  if (!response.ok) need({ error });
}

export async function deleteDraft(owner: string): Promise<void> {
  const { response, error } = await client.DELETE("/drafts/{owner}", { params: { path: { owner } } });
  if (!response.ok) need({ error });
}

export type Reading = Omit<paths["/previews"]["post"]["parameters"]["query"], "name">;

function address(path: string, name: string, reading: Reading): string {
  const query = new URLSearchParams({ name });
  for (const [key, value] of Object.entries(reading))
    for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined && one !== "" && one !== false) query.append(key, String(one));
  return `/api${path}?${query}`;
}

/** Says how a file would be understood; the service keeps nothing. */
export async function preview(name: string, body: Blob, reading: Reading, signal: AbortSignal): Promise<Preview> {
  const answer = await fetch(address("/previews", name, reading), { method: "POST", body, headers: { "Content-Type": "application/octet-stream" }, signal });
  const json: unknown = await answer.json();
  return need(answer.ok ? { data: json as Preview } : { error: json });
}

/** Sends a file to be kept; progress is the part that has been sent. */
export function keepRecording(name: string, body: Blob, reading: Reading, progress: (part: number) => void, signal: AbortSignal): Promise<Recording> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", address("/recordings", name, reading));
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.responseType = "json";
    request.upload.onprogress = (e) => progress(e.loaded / Math.max(e.total, 1));
    request.onerror = () => reject(new Refused("The service does not answer. Nothing was kept; is it running?"));
    request.onabort = () => reject(new Refused("Cancelled; nothing was kept."));
    request.onload = () => {
      try {
        resolve(need(request.status === 201 ? { data: request.response as Recording } : { error: request.response as unknown }));
      } catch (e) {
        reject(e instanceof Error ? e : new Refused(String(e)));
      }
    };
    signal.addEventListener("abort", () => request.abort());
    request.send(body);
  });
}
