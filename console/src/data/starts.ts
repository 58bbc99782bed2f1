// What starts by itself: briefs, schedules, webhooks, polled branches, and the queue.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type Brief, type BriefOf, type Calendar, type WebhookOf, type Delivery, type Run, type RunSummary, type ScheduleOf, type SchedulePreview, type Times, type Tried, type PollOf, call } from "./api";

/** Lists that others change too are read again so often, in milliseconds. */
const AGAIN = 10_000;

const post = <T,>(path: string, body: unknown = {}, signal?: AbortSignal) => call<T>(path, { method: "POST", body, signal });

/** A call that changes something; what is shown of these kinds is read again. */
function useChange<V, T>(kinds: string[], does: (value: V) => Promise<T>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: does,
    // Not waited for: what the caller does then comes before what is shown changes under it.
    onSuccess: () => kinds.forEach((kind) => void queries.invalidateQueries({ queryKey: [kind] })),
  });
}

export const useBriefs = () => useQuery({ queryKey: ["briefs"], queryFn: ({ signal }) => call<BriefOf[]>("/api/briefs", { signal }), refetchInterval: AGAIN });
export const useBrief = (name: string) => useQuery({ queryKey: ["briefs", name], queryFn: ({ signal }) => call<BriefOf>(`/api/briefs/${name}`, { signal }), enabled: name !== "", retry: false });
export const usePutBrief = () => useChange(["briefs"], (brief: { name: string; brief: Partial<Brief>; replace: boolean }) => post<BriefOf>("/api/briefs", brief));
export const useRemoveBrief = () => useChange(["briefs"], (name: string) => call<void>(`/api/briefs/${name}`, { method: "DELETE" }));

export interface NewSchedule {
  name: string;
  brief?: string;
  suite?: string;
  times: Partial<Times>;
  /** What is otherwise than the brief says; the form leaves it as it is. */
  changes?: ScheduleOf["changes"];
  replace: boolean;
}
export const useSchedules = () => useQuery({ queryKey: ["schedules"], queryFn: ({ signal }) => call<ScheduleOf[]>("/api/schedules", { signal }), refetchInterval: AGAIN });
export const useSchedule = (name: string) => useQuery({ queryKey: ["schedules", name], queryFn: ({ signal }) => call<ScheduleOf>(`/api/schedules/${name}`, { signal }), refetchInterval: AGAIN });
export const usePreview = (schedule: NewSchedule, wanted: boolean) =>
  useQuery({ queryKey: ["preview", schedule], queryFn: ({ signal }) => post<SchedulePreview>("/api/schedules/preview", schedule, signal), enabled: wanted, retry: false, gcTime: 10_000, placeholderData: (before) => before });
export const usePutSchedule = () => useChange(["schedules", "calendar"], (schedule: NewSchedule) => post<ScheduleOf>("/api/schedules", schedule));
export const useRemoveSchedule = () => useChange(["schedules", "calendar"], (name: string) => call<void>(`/api/schedules/${name}`, { method: "DELETE" }));
export const usePauseSchedule = () => useChange(["schedules", "calendar"], ({ name, paused }: { name: string; paused: boolean }) => post<ScheduleOf>(`/api/schedules/${name}/pause`, { paused }));
export const useScheduleNow = () => useChange(["schedules"], (name: string) => post<Run>(`/api/schedules/${name}/now`));
export const useCalendar = (from: string, to: string) =>
  useQuery({ queryKey: ["calendar", from, to], queryFn: ({ signal }) => call<Calendar>(`/api/calendar?${new URLSearchParams({ from, to })}`, { signal }), refetchInterval: 30_000, placeholderData: (before) => before });

export interface NewWebhook {
  name: string;
  brief: string;
  takes: string[];
  whens: string[];
}
export const useWebhooks = () => useQuery({ queryKey: ["webhooks"], queryFn: ({ signal }) => call<WebhookOf[]>("/api/webhooks", { signal }), refetchInterval: AGAIN });
export const useWebhook = (name: string) => useQuery({ queryKey: ["webhooks", name], queryFn: ({ signal }) => call<WebhookOf>(`/api/webhooks/${name}`, { signal }), refetchInterval: AGAIN });
export const useAddWebhook = () => useChange(["webhooks"], (made: NewWebhook) => post<WebhookOf>("/api/webhooks", made));
export const useRemoveWebhook = () => useChange(["webhooks"], (name: string) => call<void>(`/api/webhooks/${name}`, { method: "DELETE" }));
export const usePauseWebhook = () => useChange(["webhooks"], ({ name, paused }: { name: string; paused: boolean }) => post<WebhookOf>(`/api/webhooks/${name}/pause`, { paused }));
export const useTry = (name: string) => useMutation({ mutationFn: (body: string) => post<Tried>(`/api/webhooks/${name}/try`, { body, content_type: "application/json" }) });
export const useDelivery = (name: string, id: number | null) =>
  useQuery({ queryKey: ["delivery", name, id], queryFn: ({ signal }) => call<Delivery>(`/api/webhooks/${name}/deliveries/${id}`, { signal }), enabled: id !== null, staleTime: Infinity });
export const useRedeliver = (name: string) => useChange(["webhooks"], (id: number) => post<Delivery>(`/api/webhooks/${name}/deliveries/${id}/redeliver`));

export const usePolls = (suite: string, wanted: boolean) =>
  useQuery({ queryKey: ["polls", suite], queryFn: ({ signal }) => call<PollOf[]>(`/api/suites/${suite}/polls`, { signal }), enabled: wanted, refetchInterval: AGAIN });
export const usePutPoll = (suite: string) => useChange(["polls"], (poll: { branches: string; every: string; brief: string | null }) => post<PollOf>(`/api/suites/${suite}/polls`, poll));
export const useRemovePoll = (suite: string) =>
  useChange(["polls"], (branches: string) => call<void>(`/api/suites/${suite}/polls?branches=${encodeURIComponent(branches)}`, { method: "DELETE" }));

export const useQueue = () => useQuery({ queryKey: ["queue"], queryFn: ({ signal }) => call<RunSummary[]>("/api/queue", { signal }), refetchInterval: 2000 });
export const useMoveRun = () => useChange(["queue"], (to: { run: string; before?: string; last?: boolean }) => post<RunSummary[]>("/api/queue/order", to));
export const useTakeOut = () => useChange(["queue"], (run: string) => post<Run>(`/api/runs/${run}/stop`, { why: "taken out of the queue" }));
