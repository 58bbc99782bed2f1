// Pools and the machines that they start, as the console asks for them.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { api, of, told, useMe } from "./api";

export type PoolOf = components["schemas"]["PoolOf"];
export type MachineOf = components["schemas"]["MachineOf"];

/** Machines come and go within seconds. */
const AGAIN = 2000;

export const usePools = () => useQuery({ queryKey: ["pools"], queryFn: ({ signal }) => told(api.GET("/api/pools", { signal })), refetchInterval: AGAIN });
export const usePool = (name: string) => useQuery({ queryKey: ["pools", name], queryFn: ({ signal }) => told(api.GET("/api/pools/{name}", { params: { path: { name } }, signal })), refetchInterval: AGAIN });

export function useRemovePool() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (name: string) => told(api.DELETE("/api/pools/{name}", { params: { path: { name } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["pools"] }),
  });
}

/** Whether whoever is signed in may say what runs on the service's machines. */
export const useMayKeep = () => useMe().data?.role === "admin";

/** The machines that a pool started for a run. */
export const useMachines = (run: string, over: boolean) =>
  useQuery({ queryKey: ["machines", run, over], queryFn: ({ signal }) => told(api.GET("/api/runs/{suite}/{number}/machines", { params: { path: of(run) }, signal })), refetchInterval: over ? false : AGAIN });
