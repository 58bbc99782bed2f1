// The floor's live stream: workers and their slots, and runs as they change. One for the whole console.

import { useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useState } from "react";

import type { Floor, RunSummary, Worker } from "./api";

interface Known {
  workers: Worker[];
  /** Runs that changed while this page was open, by name. */
  runs: Map<string, RunSummary>;
  linked: boolean;
}

const FloorContext = createContext<Known>({ workers: [], runs: new Map(), linked: false });

export function FloorProvider({ children }: { children: ReactNode }) {
  const [known, setKnown] = useState<Known>({ workers: [], runs: new Map(), linked: false });
  const queries = useQueryClient();
  useEffect(() => {
    const stream = new EventSource("/api/live");
    const take = (whole: boolean) => (event: MessageEvent<string>) => {
      const floor = JSON.parse(event.data) as Floor;
      setKnown((before) => {
        const runs = new Map(before.runs);
        for (const run of floor.runs) runs.set(run.name, run);
        const byName = new Map(whole ? [] : before.workers.map((w) => [w.name, w]));
        for (const name of floor.gone) byName.delete(name);
        for (const worker of floor.workers) byName.set(worker.name, worker);
        const workers = [...byName.values()].sort((a, b) => `${a.pool} ${a.name}`.localeCompare(`${b.pool} ${b.name}`));
        return { workers, runs, linked: true };
      });
      // Runs that are over are read again from where they are kept.
      if (floor.runs.some((run) => run.verdict)) void queries.invalidateQueries({ queryKey: ["suites"] });
    };
    stream.addEventListener("snapshot", take(true));
    stream.addEventListener("change", take(false));
    stream.onerror = () => setKnown((before) => ({ ...before, linked: false }));
    return () => stream.close();
  }, [queries]);
  return <FloorContext value={known}>{children}</FloorContext>;
}

export function useFloor() {
  return useContext(FloorContext);
}
