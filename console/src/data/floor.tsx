// The floor's live stream: workers and their slots, and runs as they change. One for the whole console.

import { useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useState } from "react";

import { type Floor, type RunSummary, type Worker, lookAtSession } from "./api";
import { openStream } from "./stream";

interface Known {
  workers: Worker[];
  /** Runs that changed while this page was open, by name. */
  runs: Map<string, RunSummary>;
  linked: boolean;
  /** Something has come at least once. */
  seen: boolean;
}

const FloorContext = createContext<Known>({ workers: [], runs: new Map(), linked: false, seen: false });

export function FloorProvider({ children }: { children: ReactNode }) {
  const [known, setKnown] = useState<Known>({ workers: [], runs: new Map(), linked: false, seen: false });
  const queries = useQueryClient();
  useEffect(() => {
    const take = (whole: boolean) => (data: string) => {
      const floor = JSON.parse(data) as Floor;
      setKnown((before) => {
        const runs = new Map(before.runs);
        for (const run of floor.runs) runs.set(run.name, run);
        const byName = new Map(whole ? [] : before.workers.map((w) => [w.name, w]));
        for (const name of floor.gone) byName.delete(name);
        for (const worker of floor.workers) byName.set(worker.name, worker);
        const workers = [...byName.values()].sort((a, b) => `${a.pool} ${a.name}`.localeCompare(`${b.pool} ${b.name}`));
        return { workers, runs, linked: true, seen: true };
      });
      // Runs that are over are read again from where they are kept.
      if (floor.runs.some((run) => run.verdict)) void queries.invalidateQueries({ queryKey: ["suites"] });
    };
    const cut = (refused: boolean) => {
      setKnown((before) => ({ ...before, linked: false }));
      // What refuses the stream may be that the session has ended.
      if (refused) lookAtSession();
    };
    return openStream("/api/live", { snapshot: take(true), change: take(false) }, cut);
  }, [queries]);
  return <FloorContext value={known}>{children}</FloorContext>;
}

export function useFloor() {
  return useContext(FloorContext);
}
