// What starts by itself: briefs, schedules, webhooks, polled branches, and the queue.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type Brief, type ScheduleOf, type Times, api, of, some, told } from "./api";

/** Lists that others change too are read again so often, in milliseconds. */
const AGAIN = 10_000;

/** A call that changes something; what is shown of these kinds is read again. */
function useChange<V, T>(kinds: string[], does: (value: V) => Promise<T>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: does,
    // Not waited for: what the caller does then comes before what is shown changes under it.
    onSuccess: () => kinds.forEach((kind) => void queries.invalidateQueries({ queryKey: [kind] })),
  });
}

export const useBriefs = () => useQuery({ queryKey: ["briefs"], queryFn: ({ signal }) => told(api.GET("/api/briefs", { signal })), refetchInterval: AGAIN });
export const useBrief = (name: string) => useQuery({ queryKey: ["briefs", name], queryFn: ({ signal }) => told(api.GET("/api/briefs/{name}", { params: { path: { name } }, signal })), enabled: name !== "", retry: false });
export const usePutBrief = () => useChange(["briefs"], (brief: { name: string; brief: Partial<Brief>; replace: boolean }) => told(api.POST("/api/briefs", { body: some(brief) })));
export const useRemoveBrief = () => useChange(["briefs"], (name: string) => told(api.DELETE("/api/briefs/{name}", { params: { path: { name } } })));

export interface NewSchedule {
  name: string;
  brief?: string;
  suite?: string;
  times: Partial<Times>;
  /** What is otherwise than the brief says; the form leaves it as it is. */
  changes?: ScheduleOf["changes"];
  replace: boolean;
}
export const useSchedules = () => useQuery({ queryKey: ["schedules"], queryFn: ({ signal }) => told(api.GET("/api/schedules", { signal })), refetchInterval: AGAIN });
export const useSchedule = (name: string) => useQuery({ queryKey: ["schedules", name], queryFn: ({ signal }) => told(api.GET("/api/schedules/{name}", { params: { path: { name } }, signal })), refetchInterval: AGAIN });
export const usePreview = (schedule: NewSchedule, wanted: boolean) =>
  useQuery({ queryKey: ["preview", schedule], queryFn: ({ signal }) => told(api.POST("/api/schedules/preview", { body: some(schedule), signal })), enabled: wanted, retry: false, gcTime: 10_000, placeholderData: (before) => before });
export const usePutSchedule = () => useChange(["schedules", "calendar"], (schedule: NewSchedule) => told(api.POST("/api/schedules", { body: some(schedule) })));
export const useRemoveSchedule = () => useChange(["schedules", "calendar"], (name: string) => told(api.DELETE("/api/schedules/{name}", { params: { path: { name } } })));
export const usePauseSchedule = () => useChange(["schedules", "calendar"], ({ name, paused }: { name: string; paused: boolean }) => told(api.POST("/api/schedules/{name}/pause", { params: { path: { name } }, body: { paused } })));
export const useScheduleNow = () => useChange(["schedules"], (name: string) => told(api.POST("/api/schedules/{name}/now", { params: { path: { name } } })));
export const useCalendar = (from: string, to: string) =>
  useQuery({ queryKey: ["calendar", from, to], queryFn: ({ signal }) => told(api.GET("/api/calendar", { params: { query: { from, to } }, signal })), refetchInterval: 30_000, placeholderData: (before) => before });

export interface NewWebhook {
  name: string;
  brief: string;
  takes: string[];
  whens: string[];
}
export const useWebhooks = () => useQuery({ queryKey: ["webhooks"], queryFn: ({ signal }) => told(api.GET("/api/webhooks", { signal })), refetchInterval: AGAIN });
export const useWebhook = (name: string) => useQuery({ queryKey: ["webhooks", name], queryFn: ({ signal }) => told(api.GET("/api/webhooks/{name}", { params: { path: { name } }, signal })), refetchInterval: AGAIN });
export const useAddWebhook = () => useChange(["webhooks"], (made: NewWebhook) => told(api.POST("/api/webhooks", { body: some(made) })));
export const useRemoveWebhook = () => useChange(["webhooks"], (name: string) => told(api.DELETE("/api/webhooks/{name}", { params: { path: { name } } })));
export const usePauseWebhook = () => useChange(["webhooks"], ({ name, paused }: { name: string; paused: boolean }) => told(api.POST("/api/webhooks/{name}/pause", { params: { path: { name } }, body: { paused } })));
export const useTry = (name: string) => useMutation({ mutationFn: (body: string) => told(api.POST("/api/webhooks/{name}/try", { params: { path: { name } }, body: { body, content_type: "application/json" } })) });
export const useDelivery = (name: string, id: number | null) =>
  useQuery({ queryKey: ["delivery", name, id], queryFn: ({ signal }) => told(api.GET("/api/webhooks/{name}/deliveries/{id}", { params: { path: { name, id: id ?? 0 } }, signal })), enabled: id !== null, staleTime: Infinity });
export const useRedeliver = (name: string) => useChange(["webhooks"], (id: number) => told(api.POST("/api/webhooks/{name}/deliveries/{id}/redeliver", { params: { path: { name, id } } })));

export const usePolls = (suite: string, wanted: boolean) =>
  useQuery({ queryKey: ["polls", suite], queryFn: ({ signal }) => told(api.GET("/api/suites/{suite}/polls", { params: { path: { suite } }, signal })), enabled: wanted, refetchInterval: AGAIN });
export const usePutPoll = (suite: string) => useChange(["polls"], (poll: { branches: string; every: string; brief: string | null }) => told(api.POST("/api/suites/{suite}/polls", { params: { path: { suite } }, body: some(poll) })));
export const useRemovePoll = (suite: string) =>
  useChange(["polls"], (branches: string) => told(api.DELETE("/api/suites/{suite}/polls", { params: { path: { suite }, query: { branches } } })));

export const useQueue = () => useQuery({ queryKey: ["queue"], queryFn: ({ signal }) => told(api.GET("/api/queue", { signal })), refetchInterval: 2000 });
export const useMoveRun = () => useChange(["queue"], (to: { run: string; before?: string; last?: boolean }) => told(api.POST("/api/queue/order", { body: some(to) })));
export const useTakeOut = () => useChange(["queue"], (run: string) => told(api.POST("/api/runs/{suite}/{number}/stop", { params: { path: of(run) }, body: { why: "taken out of the queue" } })));
