// One run's live stream.

import { useEffect, useState } from "react";

import type { Entry, Run, RunChange, RunSnapshot } from "./api";
import { letterOf } from "../parts/states";

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
    const stream = new EventSource(`/api/runs/${name}/live`);
    const bump = setInterval(() => {
      if (!stale) return;
      stale = false;
      setLive((before) => before && { ...before, version: before.version + 1 });
    }, 1000);
    stream.addEventListener("snapshot", (event: MessageEvent<string>) => {
      const snapshot = JSON.parse(event.data) as RunSnapshot;
      stale = true;
      setLive((before) => ({ ...snapshot, version: before?.version ?? 0, linked: true }));
    });
    const change = (event: MessageEvent<string>) => {
      const change = JSON.parse(event.data) as RunChange;
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
    stream.addEventListener("change", change);
    stream.addEventListener("end", (event: MessageEvent<string>) => {
      change(event);
      stream.close();
    });
    stream.onerror = () => {
      // A closed stream is one that the service refused; a cut one is dialled again by the browser.
      if (stream.readyState === EventSource.CLOSED) setMissing(true);
      else setLive((before) => before && { ...before, linked: false });
    };
    return () => {
      clearInterval(bump);
      stream.close();
    };
  }, [name]);
  return { live, missing };
}
