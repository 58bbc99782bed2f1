// The API as the console calls it: types made from the OpenAPI document, and one place for every call.

import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";

import createClient from "openapi-fetch";

import type { components, paths } from "../generated/api";

type Schemas = components["schemas"];
export type Me = Schemas["Me"];
export type RunSummary = Schemas["RunSummary"];
export type Run = Schemas["Run"];
export type Entry = Schemas["Entry"];
export type Entries = Schemas["Entries"];
export type EntryDetail = Schemas["EntryDetail"];
export type Attempt = Schemas["Attempt"];
export type Artifact = Schemas["Artifact"];
export type Suite = Schemas["Suite"];
export type SuiteDetail = Schemas["SuiteDetail"];
export type Worker = Schemas["Worker"];
export type Slot = Schemas["Slot"];
export type FailingTests = Schemas["FailingTests"];
export type Reachable = Schemas["Reachable"];
export type Tally = Schemas["Tally"];
export type RunOptions = Schemas["RunOptions"];
/** What is left away stands at its default. */
export type NewRun = { suite?: string; brief?: string; branch?: string | null; pool?: string | null; options: Partial<RunOptions> };
export type Brief = Schemas["Brief"];
export type BriefOf = Schemas["BriefOf"];
export type ScheduleOf = Schemas["ScheduleOf"];
export type SchedulePreview = Schemas["SchedulePreview"];
export type PlannedStart = Schemas["PlannedStart"];
export type Calendar = Schemas["Calendar"];
export type CalendarStart = Schemas["CalendarStart"];
export type WebhookOf = Schemas["WebhookOf"];
export type Delivery = Schemas["Delivery"];
export type Tried = Schemas["Tried"];
export type PollOf = Schemas["PollOf"];
export type Times = Schemas["Times"];
export type Park = Schemas["Park"];
export type Said = Partial<Schemas["Said"]>;
export type SuiteDraft = Schemas["SuiteDraft"];
export type Forecast = Schemas["Forecast"];
export type CauseOf = Schemas["CauseOf"];
export type Variants = Schemas["Variants"];
export type Floor = Schemas["Floor"];
export type RunSnapshot = Schemas["RunSnapshot"];
export type RunChange = Schemas["RunChange"];
export type TimeLeft = Schemas["TimeLeft"];
export type Part = Schemas["Part"];
export type Timeline = Schemas["Timeline"];
export type Block = Schemas["Block"];
export type CaseMark = Schemas["CaseMark"];
export type TestLine = Schemas["TestLine"];
export type Case = Schemas["Case"];
export type Cases = Schemas["Cases"];
export type CaseDetail = Schemas["CaseDetail"];
export type CaseTally = Schemas["CaseTally"];

/** A call that was refused, with what the service said. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

const onEnd = new Set<() => void>();
const ended = () => onEnd.forEach((tell) => tell());

/** Tells when a call finds that the session has ended. Returns what takes that back. */
export function whenSessionEnds(tell: () => void) {
  onEnd.add(tell);
  return () => {
    onEnd.delete(tell);
  };
}

/** Calls the service; where nothing answers, that is a refusal too. */
async function fetched(request: Request): Promise<Response> {
  try {
    return await fetch(request);
  } catch (error) {
    if (request.signal.aborted) throw error;
    throw new Refused(0, "The service does not answer. Is it running?");
  }
}

/** The calls of the OpenAPI document: paths, what they take and what they answer are its own. */
export const api = createClient<paths>({ fetch: fetched, baseUrl: location.origin });

/** What a call answered; throws if it was refused. */
export async function told<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  const path = new URL(response.url).pathname;
  if (response.status === 401 && !["/api/me", "/api/session", "/api/password"].includes(path)) ended();
  if (!response.ok) {
    const refusal = typeof error === "object" && error !== null && "message" in error ? String(error.message) : "";
    throw new Refused(response.status, refusal || `The service answered ${response.status}.`);
  }
  return data as T;
}

type Some<T> = { [K in keyof T]?: T[K] extends object ? Some<T[K]> : T[K] };

/** A body of which what is left away stands at its default. */
export const some = <T>(body: Some<NoInfer<T>>) => body as T & {};

/** The suite and the number of a run, by its name. */
export function of(run: string) {
  const [suite, number] = run.split("/");
  return { suite, number: Number(number) };
}

/** Looks whether the session goes on, where something else was refused; if it has ended, that is told. */
export function lookAtSession() {
  told(api.GET("/api/me")).catch((error: unknown) => {
    if (error instanceof Refused && error.status === 401) ended();
  });
}

export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: ({ signal }) => told(api.GET("/api/me", { signal })), retry: false, staleTime: Infinity });
}

/** Whether whoever is signed in is for some suites only: what is about all of them is not theirs to see. */
export function useLimited(): boolean {
  return (useMe().data?.suites ?? []).length > 0;
}

/** Whether whoever is signed in may start and stop runs, and change what starts them. */
export function useMayOperate(): boolean {
  const role = useMe().data?.role;
  return role === "operator" || role === "admin";
}

/** A run as it is kept, asked for again while `wants` says so. */
export function useRun(name: string, enabled: boolean, wants: (run: Run) => boolean) {
  return useQuery({
    queryKey: ["run", name],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}", { params: { path: of(name) }, signal })),
    enabled,
    refetchInterval: ({ state }) => (state.data && !wants(state.data) ? false : 2000),
  });
}

export interface RunFilter {
  suite?: string;
  label?: string;
  verdict?: string;
  limit?: number;
}

export function useRuns({ suite, label, verdict, limit = 100 }: RunFilter = {}) {
  const query = { limit, suite: suite || undefined, label: label || undefined, verdict: verdict || undefined };
  return useQuery({ queryKey: ["runs", query], queryFn: ({ signal }) => told(api.GET("/api/runs", { params: { query: query }, signal })), placeholderData: (before) => before });
}

export function useSuites() {
  return useQuery({ queryKey: ["suites"], queryFn: ({ signal }) => told(api.GET("/api/suites", { signal })) });
}

/** The private addresses that are offered now. */
export function useReachable() {
  return useQuery({ queryKey: ["reach"], queryFn: ({ signal }) => told(api.GET("/api/reach", { signal })), refetchInterval: 5000, enabled: !useLimited() });
}

export function useSuite(name: string) {
  return useQuery({ queryKey: ["suites", name], queryFn: ({ signal }) => told(api.GET("/api/suites/{suite}", { params: { path: { suite: name } }, signal })), enabled: name !== "" });
}

export interface EntryFilter {
  state: string;
  name: string;
  order: string;
}

/** Entries are asked for in chunks of so many. */
export const CHUNK = 100;

/** Some chunks of a run's entries; asked anew when `version` changes, with the old ones shown meanwhile. */
export function useEntryChunks(run: string, filter: EntryFilter, chunks: number[], version: number) {
  return useQueries({
    queries: chunks.map((chunk) => {
      const query = { ...filter, skip: chunk * CHUNK, limit: CHUNK };
      return {
        queryKey: ["entries", run, query, version],
        queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/entries", { params: { path: of(run), query: query }, signal })),
        gcTime: 10_000,
      };
    }),
  });
}

export function useEntry(run: string, index: number, version: number) {
  return useQuery({
    queryKey: ["entry", run, index, version],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/entries/{index}", { params: { path: { ...of(run), index } }, signal })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export interface CaseQuestion {
  entry?: number;
  state: string;
  name: string;
  limit: number;
}

export function useCases(run: string, { entry, state, name, limit }: CaseQuestion, version: number) {
  const query = { state, name, limit, entry };
  return useQuery({
    queryKey: ["cases", run, query, version],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/cases", { params: { path: of(run), query: query }, signal })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export function useCase(run: string, entry: number, title: string, version: number) {
  return useQuery({
    queryKey: ["case", run, entry, title, version],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/entries/{index}/case", { params: { path: { ...of(run), index: entry }, query: { title } }, signal })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export function useLog(run: string, index: number, attempt: number, wanted: boolean) {
  return useQuery({
    queryKey: ["log", run, index, attempt],
    queryFn: async () => {
      const answer = await fetch(`/api/runs/${run}/entries/${index}/attempts/${attempt}/log`);
      if (!answer.ok) throw new Refused(answer.status, "The log cannot be read.");
      return answer.text();
    },
    enabled: wanted,
    staleTime: Infinity,
  });
}

export type Choosing = { pick: string[]; drop: string[]; variants: string[] };

export function useForecast(suite: string, options?: Choosing) {
  return useQuery({
    queryKey: ["forecast", suite, options ?? null],
    queryFn: ({ signal }) => told(api.POST("/api/suites/{suite}/forecast", { params: { path: { suite } }, body: some({ options: options ?? {} }), signal })),
    enabled: suite !== "",
    retry: false,
    placeholderData: (before) => before,
  });
}

/** A first suite file for what is said of a suite, as JSON. */
export function useDraft(said: string) {
  return useQuery({
    queryKey: ["draft", said],
    queryFn: ({ signal }) => told(api.POST("/api/drafts", { body: some(JSON.parse(said) as Said), signal })),
    retry: false,
    placeholderData: (before) => before,
  });
}

export function usePark(suite: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (park: { pattern: string; until: string; why: string; only: string[] }) => told(api.POST("/api/suites/{suite}/parks", { params: { path: { suite } }, body: park })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["suites"] }),
  });
}

export function useUnpark(suite: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (pattern: string) => told(api.DELETE("/api/suites/{suite}/parks", { params: { path: { suite }, query: { pattern } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["suites"] }),
  });
}

/** Failures by cause; asked anew when `version` changes. */
export function useCauses(run: string, version: number) {
  return useQuery({
    queryKey: ["causes", run, version],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/causes", { params: { path: of(run) }, signal })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

/** A run by groups of names. */
export function useParts(run: string, version: number) {
  return useQuery({
    queryKey: ["parts", run, version],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/parts", { params: { path: of(run) }, signal })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

/** What each slot did when, between two moments (microseconds from the beginning) or in all. */
export function useTimeline(run: string, between: [number, number] | null, version: number) {
  const query = { width: 1200, ...(between ? { from: Math.round(between[0]), to: Math.round(between[1]) } : {}) };
  return useQuery({
    queryKey: ["timeline", run, query, version],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/timeline", { params: { path: of(run), query: query }, signal })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

/** The tests of a suite that a choice would run, with what the record says of them. */
export function useTests(suite: string, options: Partial<RunOptions>, wanted = true) {
  return useQuery({
    queryKey: ["tests", suite, options],
    queryFn: ({ signal }) => told(api.POST("/api/suites/{suite}/tests", { params: { path: { suite } }, body: some({ options }), signal })),
    enabled: suite !== "" && wanted,
    retry: false,
    placeholderData: (before) => before,
  });
}

export function useDrain() {
  return useMutation({ mutationFn: ({ worker, drain }: { worker: string; drain: boolean }) => told(api.POST("/api/workers/{name}/drain", { params: { path: { name: worker } }, body: { drain } })) });
}

export function useVariants(run: string, version: number) {
  return useQuery({
    queryKey: ["variants", run, version],
    queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/variants", { params: { path: of(run) }, signal })),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export function useStart() {
  return useMutation({ mutationFn: (run: NewRun) => told(api.POST("/api/runs", { body: some(run) })) });
}

export function useStop(run: string) {
  return useMutation({ mutationFn: () => told(api.POST("/api/runs/{suite}/{number}/stop", { params: { path: of(run) }, body: some({}) })) });
}

export function useAgain(run: string) {
  return useMutation({
    mutationFn: (not_passed: boolean) => told(api.POST("/api/runs/{suite}/{number}/again", { params: { path: of(run) }, body: some({ not_passed }) })),
  });
}
