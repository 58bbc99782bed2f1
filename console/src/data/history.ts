// Tests over their runs, and runs against each other.

import { useQuery } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { call } from "./api";

type Schemas = components["schemas"];
export type TestHistory = Schemas["TestHistory"];
export type PastEntry = Schemas["PastEntry"];
export type HistoryRun = Schemas["HistoryRun"];
export type FlakyTest = Schemas["FlakyTest"];
export type FlakyTests = Schemas["FlakyTests"];
export type FlakyEvidence = Schemas["FlakyEvidence"];
export type Share = Schemas["Share"];
export type Compared = Schemas["Compared"];
export type ComparedTests = Schemas["ComparedTests"];
export type ComparedTest = Schemas["ComparedTest"];

/** A test over its runs; `version` says when to look again. */
export function useHistory(suite: string, test: string, variant: string, version = "") {
  const query = new URLSearchParams({ test, variant });
  return useQuery({
    queryKey: ["history", suite, test, variant, version],
    queryFn: ({ signal }) => call<TestHistory>(`/api/suites/${suite}/history?${query}`, { signal }),
    enabled: suite !== "" && test !== "",
    placeholderData: (before) => before,
  });
}

/** What a test's failing goes with. */
export function useEvidence(suite: string, test: string, wanted: boolean) {
  const query = new URLSearchParams({ test });
  return useQuery({ queryKey: ["evidence", suite, test], queryFn: ({ signal }) => call<FlakyEvidence>(`/api/suites/${suite}/flaky/evidence?${query}`, { signal }), enabled: wanted });
}

/** Tests that were flaky of late, of a suite or of all. */
export function useFlaky(suite?: string, version = "") {
  return useQuery({
    queryKey: ["flaky", suite ?? "", version],
    queryFn: ({ signal }) => call<FlakyTests>(suite ? `/api/suites/${suite}/flaky` : "/api/flaky", { signal }),
    placeholderData: (before) => before,
  });
}

/** A run that is over against another one. */
export function useCompared(run: string, way: string, wanted = true) {
  const query = new URLSearchParams({ with: way });
  return useQuery({ queryKey: ["compared", run, way], queryFn: ({ signal }) => call<Compared>(`/api/runs/${run}/compared?${query}`, { signal }), enabled: wanted, retry: false });
}
