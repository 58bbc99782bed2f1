// The API as the console calls it: types made from the OpenAPI document, and one place for every call.

import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";

import type { components } from "../generated/api";

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

export async function call<T>(path: string, options: { method?: string; body?: unknown; signal?: AbortSignal } = {}): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(path, {
      method: options.method ?? "GET",
      signal: options.signal,
      headers: options.body === undefined ? {} : { "Content-Type": "application/json" },
      body: options.body === undefined ? undefined : JSON.stringify(options.body),
    });
  } catch (error) {
    if (options.signal?.aborted) throw error;
    throw new Refused(0, "The service does not answer. Is it running?");
  }
  if (answer.status === 401 && !["/api/me", "/api/session", "/api/password"].includes(path)) ended();
  if (!answer.ok) {
    const refusal = await answer.json().catch(() => null);
    throw new Refused(answer.status, refusal?.message ?? `The service answered ${answer.status}.`);
  }
  return answer.status === 204 ? (undefined as T) : answer.json();
}

/** Looks whether the session goes on, where something else was refused; if it has ended, that is told. */
export function lookAtSession() {
  call<Me>("/api/me").catch((error: unknown) => {
    if (error instanceof Refused && error.status === 401) ended();
  });
}

export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: ({ signal }) => call<Me>("/api/me", { signal }), retry: false, staleTime: Infinity });
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

export interface RunFilter {
  suite?: string;
  label?: string;
  verdict?: string;
  limit?: number;
}

export function useRuns({ suite, label, verdict, limit = 100 }: RunFilter = {}) {
  const query = new URLSearchParams({ limit: String(limit) });
  if (suite) query.set("suite", suite);
  if (label) query.set("label", label);
  if (verdict) query.set("verdict", verdict);
  return useQuery({ queryKey: ["runs", query.toString()], queryFn: ({ signal }) => call<RunSummary[]>(`/api/runs?${query}`, { signal }), placeholderData: (before) => before });
}

export function useSuites() {
  return useQuery({ queryKey: ["suites"], queryFn: ({ signal }) => call<Suite[]>("/api/suites", { signal }) });
}

/** The private addresses that are offered now. */
export function useReachable() {
  return useQuery({ queryKey: ["reach"], queryFn: ({ signal }) => call<Reachable[]>("/api/reach", { signal }), refetchInterval: 5000, enabled: !useLimited() });
}

export function useSuite(name: string) {
  return useQuery({ queryKey: ["suites", name], queryFn: ({ signal }) => call<SuiteDetail>(`/api/suites/${name}`, { signal }), enabled: name !== "" });
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
      const query = new URLSearchParams({ ...filter, skip: String(chunk * CHUNK), limit: String(CHUNK) });
      return {
        queryKey: ["entries", run, query.toString(), version],
        queryFn: ({ signal }) => call<Entries>(`/api/runs/${run}/entries?${query}`, { signal }),
        gcTime: 10_000,
      };
    }),
  });
}

export function useEntry(run: string, index: number, version: number) {
  return useQuery({
    queryKey: ["entry", run, index, version],
    queryFn: ({ signal }) => call<EntryDetail>(`/api/runs/${run}/entries/${index}`, { signal }),
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
  const query = new URLSearchParams({ state, name, limit: String(limit) });
  if (entry !== undefined) query.set("entry", String(entry));
  return useQuery({
    queryKey: ["cases", run, String(query), version],
    queryFn: ({ signal }) => call<Cases>(`/api/runs/${run}/cases?${query}`, { signal }),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export function useCase(run: string, entry: number, title: string, version: number) {
  return useQuery({
    queryKey: ["case", run, entry, title, version],
    queryFn: ({ signal }) => call<CaseDetail>(`/api/runs/${run}/entries/${entry}/case?${new URLSearchParams({ title })}`, { signal }),
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
    queryFn: ({ signal }) => call<Forecast>(`/api/suites/${suite}/forecast`, { signal, method: "POST", body: { options: options ?? {} } }),
    enabled: suite !== "",
    retry: false,
    placeholderData: (before) => before,
  });
}

/** A first suite file for what is said of a suite, as JSON. */
export function useDraft(said: string) {
  return useQuery({
    queryKey: ["draft", said],
    queryFn: ({ signal }) => call<SuiteDraft>("/api/drafts", { signal, method: "POST", body: JSON.parse(said) as Said }),
    retry: false,
    placeholderData: (before) => before,
  });
}

export function usePark(suite: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (park: { pattern: string; until: string; why: string; only: string[] }) => call<Park>(`/api/suites/${suite}/parks`, { method: "POST", body: park }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["suites"] }),
  });
}

export function useUnpark(suite: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (pattern: string) => call<void>(`/api/suites/${suite}/parks?pattern=${encodeURIComponent(pattern)}`, { method: "DELETE" }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["suites"] }),
  });
}

/** Failures by cause; asked anew when `version` changes. */
export function useCauses(run: string, version: number) {
  return useQuery({
    queryKey: ["causes", run, version],
    queryFn: ({ signal }) => call<CauseOf[]>(`/api/runs/${run}/causes`, { signal }),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

/** A run by groups of names. */
export function useParts(run: string, version: number) {
  return useQuery({
    queryKey: ["parts", run, version],
    queryFn: ({ signal }) => call<Part[]>(`/api/runs/${run}/parts`, { signal }),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

/** What each slot did when, between two moments (microseconds from the beginning) or in all. */
export function useTimeline(run: string, between: [number, number] | null, version: number) {
  const query = new URLSearchParams({ width: "1200" });
  if (between) {
    query.set("from", String(Math.round(between[0])));
    query.set("to", String(Math.round(between[1])));
  }
  return useQuery({
    queryKey: ["timeline", run, query.toString(), version],
    queryFn: ({ signal }) => call<Timeline>(`/api/runs/${run}/timeline?${query}`, { signal }),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

/** The tests of a suite that a choice would run, with what the record says of them. */
export function useTests(suite: string, options: Partial<RunOptions>, wanted = true) {
  return useQuery({
    queryKey: ["tests", suite, options],
    queryFn: ({ signal }) => call<Schemas["Tests"]>(`/api/suites/${suite}/tests`, { signal, method: "POST", body: { options } }),
    enabled: suite !== "" && wanted,
    retry: false,
    placeholderData: (before) => before,
  });
}

export function useDrain() {
  return useMutation({ mutationFn: ({ worker, drain }: { worker: string; drain: boolean }) => call<Worker>(`/api/workers/${worker}/drain`, { method: "POST", body: { drain } }) });
}

export function useVariants(run: string, version: number) {
  return useQuery({
    queryKey: ["variants", run, version],
    queryFn: ({ signal }) => call<Variants>(`/api/runs/${run}/variants`, { signal }),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export function useStart() {
  return useMutation({ mutationFn: (run: NewRun) => call<Run>("/api/runs", { method: "POST", body: run }) });
}

export function useStop(run: string) {
  return useMutation({ mutationFn: () => call<Run>(`/api/runs/${run}/stop`, { method: "POST", body: {} }) });
}

export function useAgain(run: string) {
  return useMutation({
    mutationFn: (not_passed: boolean) => call<Run>(`/api/runs/${run}/again`, { method: "POST", body: { not_passed } }),
  });
}
