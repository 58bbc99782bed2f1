// What runs measure, as the console asks for it.

import { useQuery } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { call } from "./api";

export type MeasureOf = components["schemas"]["MeasureOf"];
export type MeasureOfSuite = components["schemas"]["MeasureOfSuite"];
export type MeasuredRun = components["schemas"]["MeasuredRun"];
type MeasuresOf = components["schemas"]["MeasuresOf"];

/** While a run goes on, it measures on. */
const AGAIN = 2000;

export const useMeasures = (run: string, over: boolean) =>
  useQuery({ queryKey: ["measures", run, over], queryFn: ({ signal }) => call<MeasuresOf>(`/api/runs/${run}/measures`, { signal }), refetchInterval: over ? false : AGAIN });
export const useMeasuresOfSuite = (suite: string) =>
  useQuery({ queryKey: ["measures of", suite], queryFn: ({ signal }) => call<MeasureOfSuite[]>(`/api/suites/${suite}/measures`, { signal }) });
