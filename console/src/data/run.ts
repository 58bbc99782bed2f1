// One run's live stream.

import { useEffect, useState } from "react";

import type { Entry, Run, RunChange, RunSnapshot } from "./api";
import { letterOf } from "../parts/states";
import { openStream } from "./stream";

export interface LiveRun {
  run: Run;
  slots: RunSnapshot["slots"];
  strip: string;
  trouble: Entry[];
  /** Grows with every change, at most once a second, for what is asked again then. */
  version: number;
  linked: boolean;
}

export function useLiveRun(name: string) {
  const [live, setLive] = useState<LiveRun | null>(null);
  const [missing, setMissing] = useState(false);
  useEffect(() => {
    setLive(null);
    setMissing(false);
    let stale = false;
    const bump = setInterval(() => {
      if (!stale) return;
      stale = false;
      setLive((before) => before && { ...before, version: before.version + 1 });
    }, 1000);
    const snapshot = (data: string) => {
      const snapshot = JSON.parse(data) as RunSnapshot;
      stale = true;
      setLive((before) => ({ ...snapshot, version: before?.version ?? 0, linked: true }));
      // Of a run that is over nothing more comes.
      return snapshot.run.verdict !== null && snapshot.run.verdict !== undefined;
    };
    const change = (data: string) => {
      const change = JSON.parse(data) as RunChange;
      stale = true;
      setLive((before) => {
        if (!before) return before;
        const letters = change.attempts.map((a) => (a.outcome ? letterOf(a.outcome) : "")).join("");
        const decided = change.decided.map((d) => letterOf(d.outcome)).join("");
        return {
          ...before,
          run: { ...before.run, ...change.summary, notes: [...before.run.notes, ...change.notes] },
          slots: change.slots,
          strip: before.strip + letters + decided,
          linked: true,
        };
      });
    };
    const end = (data: string) => {
      change(data);
      return true;
    };
    const cut = (refused: boolean) => {
      if (refused) setMissing(true);
      else setLive((before) => before && { ...before, linked: false });
    };
    const close = openStream(`/api/runs/${name}/live`, { snapshot, change, end }, cut);
    return () => {
      clearInterval(bump);
      close();
    };
  }, [name]);
  return { live, missing };
}
