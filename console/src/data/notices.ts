// Notices and what they sent, as the console asks for them.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { api, told } from "./api";

export type NoticeOf = components["schemas"]["NoticeOf"];
export type Notice = components["schemas"]["Notice"];
export type NewNotice = components["schemas"]["NewNotice"];
export type NoticeMessage = components["schemas"]["NoticeMessage"];

/** Messages go out within moments. */
const AGAIN = 5000;

export const useNotices = () => useQuery({ queryKey: ["notices"], queryFn: ({ signal }) => told(api.GET("/api/notices", { signal })), refetchInterval: AGAIN });
export const useNotice = (name: string) => useQuery({ queryKey: ["notices", name], queryFn: ({ signal }) => told(api.GET("/api/notices/{name}", { params: { path: { name } }, signal })), refetchInterval: AGAIN });
export const useNoticeMessage = (name: string, number: number | null) =>
  useQuery({ queryKey: ["notices", name, number], queryFn: ({ signal }) => told(api.GET("/api/notices/{name}/messages/{number}", { params: { path: { name, number: number ?? 0 } }, signal })), enabled: number !== null });

function useChange<In, Out>(change: (given: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: () => queries.invalidateQueries({ queryKey: ["notices"] }) });
}

export const usePauseNotice = () => useChange(({ name, paused }: { name: string; paused: boolean }) => told(api.POST("/api/notices/{name}/pause", { params: { path: { name } }, body: { paused } })));
export const useTryNotice = () => useChange((name: string) => told(api.POST("/api/notices/{name}/try", { params: { path: { name } } })));
export const useSendAgain = (name: string) => useChange((number: number) => told(api.POST("/api/notices/{name}/messages/{number}/again", { params: { path: { name, number } } })));
export const usePutNotice = (name: string) => useChange((body: NewNotice) => told(api.PUT("/api/notices/{name}", { params: { path: { name } }, body })));
export const useRemoveNotice = () => useChange((name: string) => told(api.DELETE("/api/notices/{name}", { params: { path: { name } } })));
