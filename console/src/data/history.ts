// Tests over their runs, and runs against each other.

import { useQuery } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { api, of, told } from "./api";

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
  const query = { test, variant };
  return useQuery({
    queryKey: ["history", suite, test, variant, version],
    queryFn: ({ signal }) => told(api.GET("/api/suites/{suite}/history", { params: { path: { suite }, query: query }, signal })),
    enabled: suite !== "" && test !== "",
    placeholderData: (before) => before,
  });
}

/** What a test's failing goes with. */
export function useEvidence(suite: string, test: string, wanted: boolean) {
  const query = { test };
  return useQuery({ queryKey: ["evidence", suite, test], queryFn: ({ signal }) => told(api.GET("/api/suites/{suite}/flaky/evidence", { params: { path: { suite }, query: query }, signal })), enabled: wanted });
}

/** Tests that were flaky of late, of a suite or of all. */
export function useFlaky(suite?: string, version = "") {
  return useQuery({
    queryKey: ["flaky", suite ?? "", version],
    queryFn: ({ signal }) => told(suite ? api.GET("/api/suites/{suite}/flaky", { params: { path: { suite } }, signal }) : api.GET("/api/flaky", { signal })),
    placeholderData: (before) => before,
  });
}

/** A run that is over against another one. */
export function useCompared(run: string, way: string, wanted = true) {
  const query = { with: way };
  return useQuery({ queryKey: ["compared", run, way], queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/compared", { params: { path: of(run), query: query }, signal })), enabled: wanted, retry: false });
}
