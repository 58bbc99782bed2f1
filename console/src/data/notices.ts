// Notices and what they sent, as the console asks for them.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { call } from "./api";

export type NoticeOf = components["schemas"]["NoticeOf"];
export type Notice = components["schemas"]["Notice"];
export type NewNotice = components["schemas"]["NewNotice"];
export type NoticeMessage = components["schemas"]["NoticeMessage"];

/** Messages go out within moments. */
const AGAIN = 5000;

export const useNotices = () => useQuery({ queryKey: ["notices"], queryFn: ({ signal }) => call<NoticeOf[]>("/api/notices", { signal }), refetchInterval: AGAIN });
export const useNotice = (name: string) => useQuery({ queryKey: ["notices", name], queryFn: ({ signal }) => call<NoticeOf>(`/api/notices/${name}`, { signal }), refetchInterval: AGAIN });
export const useNoticeMessage = (name: string, number: number | null) =>
  useQuery({ queryKey: ["notices", name, number], queryFn: ({ signal }) => call<NoticeMessage>(`/api/notices/${name}/messages/${number}`, { signal }), enabled: number !== null });

function useChange<In, Out>(change: (given: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: () => queries.invalidateQueries({ queryKey: ["notices"] }) });
}

const post = <Out,>(path: string, body: unknown = {}) => call<Out>(path, { method: "POST", body });

export const usePauseNotice = () => useChange(({ name, paused }: { name: string; paused: boolean }) => post<NoticeOf>(`/api/notices/${name}/pause`, { paused }));
export const useTryNotice = () => useChange((name: string) => post<NoticeMessage>(`/api/notices/${name}/try`));
export const useSendAgain = (name: string) => useChange((number: number) => post<NoticeMessage>(`/api/notices/${name}/messages/${number}/again`));
export const usePutNotice = (name: string) => useChange((body: NewNotice) => call<NoticeOf>(`/api/notices/${name}`, { method: "PUT", body }));
export const useRemoveNotice = () => useChange((name: string) => call<void>(`/api/notices/${name}`, { method: "DELETE" }));
