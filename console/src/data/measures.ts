// What runs measure, as the console asks for it.

import { useQuery } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { api, of, told } from "./api";

export type MeasureOf = components["schemas"]["MeasureOf"];
export type MeasureOfSuite = components["schemas"]["MeasureOfSuite"];
export type MeasuredRun = components["schemas"]["MeasuredRun"];

/** While a run goes on, it measures on. */
const AGAIN = 2000;

export const useMeasures = (run: string, over: boolean) =>
  useQuery({ queryKey: ["measures", run, over], queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/measures", { params: { path: of(run) }, signal })), refetchInterval: over ? false : AGAIN });
export const useMeasuresOfSuite = (suite: string) =>
  useQuery({ queryKey: ["measures of", suite], queryFn: ({ signal }) => told(api.GET("/api/suites/{suite}/measures", { params: { path: { suite } }, signal })) });
