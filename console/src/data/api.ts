// The API as the console calls it: types made from the OpenAPI document, and one place for every call.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

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
export type Tally = Schemas["Tally"];
export type RunOptions = Schemas["RunOptions"];
/** What is left away stands at its default. */
export type NewRun = { suite: string; options: Partial<RunOptions> };
export type Park = Schemas["Park"];
export type Forecast = Schemas["Forecast"];
export type CauseOf = Schemas["CauseOf"];
export type Variants = Schemas["Variants"];
export type Floor = Schemas["Floor"];
export type RunSnapshot = Schemas["RunSnapshot"];
export type RunChange = Schemas["RunChange"];

/** A call that was refused, with what the service said. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

export async function call<T>(path: string, options: { method?: string; body?: unknown } = {}): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(path, {
      method: options.method ?? "GET",
      headers: options.body === undefined ? {} : { "Content-Type": "application/json" },
      body: options.body === undefined ? undefined : JSON.stringify(options.body),
    });
  } catch {
    throw new Refused(0, "The service does not answer. Is it running?");
  }
  if (!answer.ok) {
    const refusal = await answer.json().catch(() => null);
    throw new Refused(answer.status, refusal?.message ?? `The service answered ${answer.status}.`);
  }
  return answer.status === 204 ? (undefined as T) : answer.json();
}

export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => call<Me>("/api/me"), retry: false, staleTime: Infinity });
}

export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (token: string) => call<Me>("/api/session", { method: "POST", body: { token } }),
    onSuccess: (me) => queries.setQueryData(["me"], me),
  });
}

export function useRuns(suite?: string, label?: string) {
  const query = new URLSearchParams({ limit: "100" });
  if (suite) query.set("suite", suite);
  if (label) query.set("label", label);
  return useQuery({ queryKey: ["runs", suite ?? "", label ?? ""], queryFn: () => call<RunSummary[]>(`/api/runs?${query}`) });
}

export function useSuites() {
  return useQuery({ queryKey: ["suites"], queryFn: () => call<Suite[]>("/api/suites") });
}

export function useSuite(name: string) {
  return useQuery({ queryKey: ["suites", name], queryFn: () => call<SuiteDetail>(`/api/suites/${name}`), enabled: name !== "" });
}

export interface EntryFilter {
  state: string;
  name: string;
  limit: number;
}

/** Entries of a run; asked anew when `version` changes, with the old ones shown meanwhile. */
export function useEntries(run: string, filter: EntryFilter, version: number) {
  const query = new URLSearchParams({ state: filter.state, name: filter.name, limit: String(filter.limit) });
  return useQuery({
    queryKey: ["entries", run, filter, version],
    queryFn: () => call<Entries>(`/api/runs/${run}/entries?${query}`),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export function useEntry(run: string, index: number, version: number) {
  return useQuery({
    queryKey: ["entry", run, index, version],
    queryFn: () => call<EntryDetail>(`/api/runs/${run}/entries/${index}`),
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
    queryFn: () => call<Forecast>(`/api/suites/${suite}/forecast`, { method: "POST", body: { options: options ?? {} } }),
    enabled: suite !== "",
    retry: false,
    placeholderData: (before) => before,
  });
}

export function usePark(suite: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (park: { pattern: string; until: string; why: string }) => call<Park>(`/api/suites/${suite}/parks`, { method: "POST", body: park }),
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
    queryFn: () => call<CauseOf[]>(`/api/runs/${run}/causes`),
    placeholderData: (before) => before,
    gcTime: 10_000,
  });
}

export function useVariants(run: string, version: number) {
  return useQuery({
    queryKey: ["variants", run, version],
    queryFn: () => call<Variants>(`/api/runs/${run}/variants`),
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
    mutationFn: (unpassed: boolean) => call<Run>(`/api/runs/${run}/again`, { method: "POST", body: { unpassed } }),
  });
}
