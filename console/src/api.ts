import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Revision = components["schemas"]["Revision"];
export type RevisionDetail = components["schemas"]["RevisionDetail"];
export type Rule = components["schemas"]["Rule"];
export type RulePoint = components["schemas"]["RulePoint"];
export type Recording = components["schemas"]["Recording"];
export type Replay = components["schemas"]["Replay"];
export type ReplayRequest = components["schemas"]["ReplayRequest"];
export type Transition = components["schemas"]["Transition"];
export type Reason = components["schemas"]["Reason"];
export type Lane = components["schemas"]["Lane"];
export type Panel = components["schemas"]["Panel"];
export type Series = components["schemas"]["Series"];
export type Value = components["schemas"]["Value"];
export type Quantity = components["schemas"]["Quantity"];
type Problem = components["schemas"]["Problem"];

const client = createClient<paths>({ baseUrl: "/api" });

/** What the service refused, in its own words. */
export class Refused extends Error {}

/** Unwraps an answer, or throws what the service said was wrong. */
function need<T>(answer: { data?: T; error?: unknown }): T {
  if (answer.data !== undefined) return answer.data;
  const problem = answer.error as Problem | undefined;
  throw new Refused(problem?.detail ?? problem?.title ?? "The service does not answer. Nothing was changed; is it running?");
}

export const listRevisions = async () => need(await client.GET("/revisions"));
export const getRevision = async (number: number) => need(await client.GET("/revisions/{number}", { params: { path: { number } } }));
export const listRecordings = async () => need(await client.GET("/recordings"));
export const replay = async (body: ReplayRequest, signal: AbortSignal) => need(await client.POST("/replays", { body, signal }));

export type SeriesQuery = paths["/series"]["get"]["parameters"]["query"];
export const getSeries = async (query: SeriesQuery, signal: AbortSignal) => need(await client.GET("/series", { params: { query }, signal }));

export type ValuesQuery = paths["/values"]["get"]["parameters"]["query"];
export const getValues = async (query: ValuesQuery, signal: AbortSignal) => need(await client.GET("/values", { params: { query }, signal }));
