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
export type Job = components["schemas"]["Job"];
export type Language = components["schemas"]["Language"];
export type Draft = components["schemas"]["Draft"];
export type JobStatus = components["schemas"]["JobStatus"];
export type Now = components["schemas"]["Now"];
export type PointNow = components["schemas"]["PointNow"];
export type AlarmNow = components["schemas"]["AlarmNow"];
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

/** What the service tells that is about no job. */
export const listJobs = async () => need(await client.GET("/jobs"));
export const listStatus = async () => need(await client.GET("/status"));
export const listPatterns = async () => need(await client.GET("/patterns"));
export const getLanguage = async () => need(await client.GET("/language"));
export const getBench = async (signal: AbortSignal) => need(await client.GET("/bench", { signal }));

type Query<P extends keyof paths> = paths[P] extends { get: { parameters: { query: infer Q } } } ? Q : never;
export type Reading = Omit<paths["/jobs/{job}/previews"]["post"]["parameters"]["query"], "name">;

function address(job: string, of: string, name: string, reading: Reading): string {
  const query = new URLSearchParams({ name });
  for (const [key, value] of Object.entries(reading))
    for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined && one !== "" && one !== false) query.append(key, String(one));
  return `/api/jobs/${job}/${of}?${query}`;
}

/** What the service is asked of one job, under its short name. */
export function inJob(job: string) {
  const path = { job };
  const params = { path };
  return {
    job,
    listRevisions: async () => need(await client.GET("/jobs/{job}/revisions", { params })),
    getRevision: async (number: number) => need(await client.GET("/jobs/{job}/revisions/{number}", { params: { path: { job, number } } })),
    pushRevision: async (body: components["schemas"]["NewRevision"]) => need(await client.POST("/jobs/{job}/revisions", { params, body })),
    getDifference: async (from: number, to: number) => need(await client.GET("/jobs/{job}/differences", { params: { path, query: { from, to } } })),
    getNow: async () => need(await client.GET("/jobs/{job}/now", { params })),
    listRecordings: async () => need(await client.GET("/jobs/{job}/recordings", { params })),

    explain: async (body: ExplanationRequest, signal: AbortSignal) => need(await client.POST("/jobs/{job}/explanations", { params, body, signal })),
    /** Plays a recording; the name is that under which the request stands in the bench's queue. */
    replay: async (body: ReplayRequest, signal: AbortSignal, name?: string) => need(await client.POST("/jobs/{job}/replays", { params, body, signal, headers: name ? { "X-Request-ID": name } : {} })),
    getSeries: async (query: Query<"/jobs/{job}/series">, signal: AbortSignal) => need(await client.GET("/jobs/{job}/series", { params: { path, query }, signal })),
    getValues: async (query: Query<"/jobs/{job}/values">, signal: AbortSignal) => need(await client.GET("/jobs/{job}/values", { params: { path, query }, signal })),
    getScale: async (query: Query<"/jobs/{job}/scales">, signal: AbortSignal) => need(await client.GET("/jobs/{job}/scales", { params: { path, query }, signal })),
    getCurve: async (query: Query<"/jobs/{job}/curves">, signal: AbortSignal) => need(await client.GET("/jobs/{job}/curves", { params: { path, query }, signal })),
    getHistogram: async (query: Query<"/jobs/{job}/histograms">, signal: AbortSignal) => need(await client.GET("/jobs/{job}/histograms", { params: { path, query }, signal })),
    calibrate: async (body: CalibrationRequest) => need(await client.POST("/jobs/{job}/calibrations", { params, body })),
    teach: async (body: LessonRequest) => need(await client.POST("/jobs/{job}/lessons", { params, body })),

    check: async (body: CheckRequest, signal?: AbortSignal) => need(await client.POST("/jobs/{job}/checks", { params, body, signal })),
    tryRule: async (body: components["schemas"]["TryRequest"], signal: AbortSignal) => need(await client.POST("/jobs/{job}/tries", { params, body, signal })),
    rename: async (body: components["schemas"]["RenameRequest"]) => need(await client.POST("/jobs/{job}/renames", { params, body })),
    merge: async (body: components["schemas"]["MergeRequest"]) => need(await client.POST("/jobs/{job}/merges", { params, body })),
    adopt: async (body: components["schemas"]["AdoptRequest"]) => need(await client.POST("/jobs/{job}/adoptions", { params, body })),

    /** The draft of somebody; undefined if there is none. */
    getDraft: async (owner: string): Promise<Draft | undefined> => {
      const answer = await client.GET("/jobs/{job}/drafts/{owner}", { params: { path: { job, owner } } });
      return answer.response.status === 204 ? undefined : need(answer);
    },

    /** Keeps a draft; it is sent even while the page is being closed. */
    putDraft: async (owner: string, body: components["schemas"]["NewDraft"]): Promise<void> => {
      const { response, error } = await client.PUT("/jobs/{job}/drafts/{owner}", { params: { path: { job, owner } }, body, keepalive: JSON.stringify(body).length < 60_000 });
      if (!response.ok) need({ error });
    },

    deleteDraft: async (owner: string): Promise<void> => {
      const { response, error } = await client.DELETE("/jobs/{job}/drafts/{owner}", { params: { path: { job, owner } } });
      if (!response.ok) need({ error });
    },

    /** Says how a file would be understood; the service keeps nothing. */
    preview: async (name: string, body: Blob, reading: Reading, signal: AbortSignal): Promise<Preview> => {
      const answer = await fetch(address(job, "previews", name, reading), { method: "POST", body, headers: { "Content-Type": "application/octet-stream" }, signal });
      const json: unknown = await answer.json();
      return need(answer.ok ? { data: json as Preview } : { error: json });
    },

    /** Sends a file to be kept; progress is the part that has been sent. */
    keepRecording: (name: string, body: Blob, reading: Reading, progress: (part: number) => void, signal: AbortSignal): Promise<Recording> =>
      new Promise((resolve, reject) => {
        const request = new XMLHttpRequest();
        request.open("POST", address(job, "recordings", name, reading));
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
      }),
  };
}
