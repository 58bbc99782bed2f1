// What starts by itself: briefs, schedules, call-ins, watched branches, and the queue.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type Brief, type BriefOf, type Calendar, type CallInOf, type Delivery, type Run, type RunSummary, type ScheduleOf, type SchedulePreview, type Times, type Tried, type WatchOf, call } from "./api";

/** Lists that others change too are read again so often, in milliseconds. */
const AGAIN = 10_000;

const post = <T,>(path: string, body: unknown = {}) => call<T>(path, { method: "POST", body });

/** A call that changes something; what is shown of these kinds is read again. */
function useChange<V, T>(kinds: string[], does: (value: V) => Promise<T>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: does,
    // Not waited for: what the caller does then comes before what is shown changes under it.
    onSuccess: () => kinds.forEach((kind) => void queries.invalidateQueries({ queryKey: [kind] })),
  });
}

export const useBriefs = () => useQuery({ queryKey: ["briefs"], queryFn: () => call<BriefOf[]>("/api/briefs"), refetchInterval: AGAIN });
export const useBrief = (name: string) => useQuery({ queryKey: ["briefs", name], queryFn: () => call<BriefOf>(`/api/briefs/${name}`), enabled: name !== "", retry: false });
export const usePutBrief = () => useChange(["briefs"], (brief: { name: string; brief: Partial<Brief>; again: boolean }) => post<BriefOf>("/api/briefs", brief));
export const useRemoveBrief = () => useChange(["briefs"], (name: string) => call<void>(`/api/briefs/${name}`, { method: "DELETE" }));

export interface NewSchedule {
  name: string;
  brief?: string;
  suite?: string;
  times: Partial<Times>;
  /** What is otherwise than the brief says; the form leaves it as it is. */
  changes?: ScheduleOf["changes"];
  again: boolean;
}
export const useSchedules = () => useQuery({ queryKey: ["schedules"], queryFn: () => call<ScheduleOf[]>("/api/schedules"), refetchInterval: AGAIN });
export const useSchedule = (name: string) => useQuery({ queryKey: ["schedules", name], queryFn: () => call<ScheduleOf>(`/api/schedules/${name}`), refetchInterval: AGAIN });
export const usePreview = (schedule: NewSchedule, wanted: boolean) =>
  useQuery({ queryKey: ["preview", schedule], queryFn: () => post<SchedulePreview>("/api/schedules/preview", schedule), enabled: wanted, retry: false, gcTime: 10_000, placeholderData: (before) => before });
export const usePutSchedule = () => useChange(["schedules", "calendar"], (schedule: NewSchedule) => post<ScheduleOf>("/api/schedules", schedule));
export const useRemoveSchedule = () => useChange(["schedules", "calendar"], (name: string) => call<void>(`/api/schedules/${name}`, { method: "DELETE" }));
export const usePauseSchedule = () => useChange(["schedules", "calendar"], ({ name, paused }: { name: string; paused: boolean }) => post<ScheduleOf>(`/api/schedules/${name}/pause`, { paused }));
export const useScheduleNow = () => useChange(["schedules"], (name: string) => post<Run>(`/api/schedules/${name}/now`));
export const useCalendar = (from: string, to: string) =>
  useQuery({ queryKey: ["calendar", from, to], queryFn: () => call<Calendar>(`/api/calendar?${new URLSearchParams({ from, to })}`), refetchInterval: 30_000, placeholderData: (before) => before });

export interface NewCallIn {
  name: string;
  brief: string;
  takes: string[];
  whens: string[];
}
export const useCallIns = () => useQuery({ queryKey: ["call-ins"], queryFn: () => call<CallInOf[]>("/api/call-ins"), refetchInterval: AGAIN });
export const useCallIn = (name: string) => useQuery({ queryKey: ["call-ins", name], queryFn: () => call<CallInOf>(`/api/call-ins/${name}`), refetchInterval: AGAIN });
export const useAddCallIn = () => useChange(["call-ins"], (made: NewCallIn) => post<CallInOf>("/api/call-ins", made));
export const useRemoveCallIn = () => useChange(["call-ins"], (name: string) => call<void>(`/api/call-ins/${name}`, { method: "DELETE" }));
export const usePauseCallIn = () => useChange(["call-ins"], ({ name, paused }: { name: string; paused: boolean }) => post<CallInOf>(`/api/call-ins/${name}/pause`, { paused }));
export const useTry = (name: string) => useMutation({ mutationFn: (body: string) => post<Tried>(`/api/call-ins/${name}/try`, { body, content_type: "application/json" }) });
export const useDelivery = (name: string, id: number | null) =>
  useQuery({ queryKey: ["delivery", name, id], queryFn: () => call<Delivery>(`/api/call-ins/${name}/deliveries/${id}`), enabled: id !== null, staleTime: Infinity });
export const useRepeat = (name: string) => useChange(["call-ins"], (id: number) => post<Delivery>(`/api/call-ins/${name}/deliveries/${id}/again`));

export const useWatches = (suite: string, wanted: boolean) =>
  useQuery({ queryKey: ["watches", suite], queryFn: () => call<WatchOf[]>(`/api/suites/${suite}/watches`), enabled: wanted, refetchInterval: AGAIN });
export const usePutWatch = (suite: string) => useChange(["watches"], (watch: { branches: string; look: string; brief: string | null }) => post<WatchOf>(`/api/suites/${suite}/watches`, watch));
export const useRemoveWatch = (suite: string) =>
  useChange(["watches"], (branches: string) => call<void>(`/api/suites/${suite}/watches?branches=${encodeURIComponent(branches)}`, { method: "DELETE" }));

export const useQueue = () => useQuery({ queryKey: ["queue"], queryFn: () => call<RunSummary[]>("/api/queue"), refetchInterval: 2000 });
export const useMoveRun = () => useChange(["queue"], (to: { run: string; before?: string; last?: boolean }) => post<RunSummary[]>("/api/queue/order", to));
export const useTakeOut = () => useChange(["queue"], (run: string) => post<Run>(`/api/runs/${run}/stop`, { why: "taken out of the queue" }));
