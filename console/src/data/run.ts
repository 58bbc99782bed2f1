// One run's live stream.

import { useEffect, useState } from "react";

import type { Entry, Run, RunChange, RunSnapshot } from "./api";
import { call } from "./api";
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
  // Why there is nothing to see: the service's own words.
  const [missing, setMissing] = useState<string | null>(null);
  useEffect(() => {
    setLive(null);
    setMissing(null);
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
        return {
          ...before,
          run: { ...before.run, ...change.summary, notes: [...before.run.notes, ...change.notes] },
          slots: change.slots,
          strip: before.strip + change.strip,
          linked: true,
        };
      });
    };
    const end = (data: string) => {
      change(data);
      return true;
    };
    const cut = (refused: boolean) => {
      // A refused stream does not say why; the run itself does.
      if (refused) call(`/api/runs/${name}`).then(() => setMissing("The stream of this run was refused."), (e: Error) => setMissing(e.message));
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
