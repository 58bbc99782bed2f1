// One run's live stream.

import { useEffect, useState } from "react";

import type { Entry, Run, RunChange, RunSnapshot } from "./api";
import { OUTCOMES } from "../parts/states";
import { api, of, told } from "./api";
import { openStream } from "./stream";

/** A stretch of outcomes in the order in which they came: a letter, and how many. */
export type Stretch = [letter: string, count: number];

/** Stretches that are kept; neighbours are put together when there are more, under the worst of them. */
const MOST_STRETCHES = 3000;
const telling = (letter: string, other: string, longer: boolean) => (["f", "k"].find((bad) => letter === bad || other === bad) ?? (longer ? letter : other));

/** Adds letters to stretches, each of them standing for `each` outcomes. */
export function lengthened(before: Stretch[], letters: string, each = 1): Stretch[] {
  const after = before.slice();
  for (const letter of letters) {
    const last = after[after.length - 1];
    if (last && last[0] === letter) after[after.length - 1] = [letter, last[1] + each];
    else after.push([letter, each]);
  }
  return after.length > MOST_STRETCHES ? shortened(after) : after;
}

function shortened(all: Stretch[]): Stretch[] {
  const total = all.reduce((sum, [, n]) => sum + n, 0);
  const cell = total / (MOST_STRETCHES / 2);
  const out: Stretch[] = [];
  let open: Stretch | null = null;
  for (const [letter, n] of all) {
    // What failed, or else was flaky, is not hidden by what it is put together with; of others the longer stretch tells.
    if (open && open[1] + n <= cell) open = [telling(letter, open[0], n > open[1]), open[1] + n];
    else {
      if (open) out.push(open);
      open = [letter, n];
    }
  }
  return open ? [...out, open] : out;
}

export interface LiveRun {
  run: Run;
  slots: RunSnapshot["slots"];
  strip: Stretch[];
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
      // A snapshot's strip may be thinned; then each letter stands for several.
      const done = OUTCOMES.reduce((sum, o) => sum + snapshot.run.tally[o], 0);
      const strip = lengthened([], snapshot.strip, Math.max(1, done / Math.max(snapshot.strip.length, 1)));
      setLive((before) => ({ ...snapshot, strip, version: before?.version ?? 0, linked: true }));
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
          strip: lengthened(before.strip, change.strip),
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
      if (refused) told(api.GET("/api/runs/{suite}/{number}", { params: { path: of(name) } })).then(() => setMissing("The stream of this run was refused."), (e: Error) => setMissing(e.message));
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
