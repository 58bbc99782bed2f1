import { Link, useSearchParams } from "react-router";

import { useRuns } from "../data/api";
import { useFloor } from "../data/floor";
import { Empty, Trouble } from "../parts/Frame";
import { RunsTable } from "../parts/RunsTable";

export function RunsPage() {
  const [asked] = useSearchParams();
  const label = asked.get("label") ?? undefined;
  const runs = useRuns(undefined, label);
  const floor = useFloor();
  if (runs.error) return <Trouble error={runs.error} />;
  if (!runs.data) return <Empty>…</Empty>;
  // What changed since the list was read, and what is new, comes from the live stream.
  const kept = runs.data.map((run) => floor.runs.get(run.name) ?? run);
  const names = new Set(kept.map((run) => run.name));
  const fresh = label ? [] : [...floor.runs.values()].filter((run) => !names.has(run.name));
  const all = [...fresh, ...kept].sort((a, b) => b.created_at.localeCompare(a.created_at));
  if (all.length === 0) {
    return (
      <Empty>
        No run yet. <Link to="/start">Start one</Link>, or in a terminal: <code>kesmo start SUITE --stay</code>
      </Empty>
    );
  }
  const active = all.filter((run) => !run.verdict).length;
  return (
    <>
      <h1 className="figure">{active > 0 ? `${active} running` : "All is calm"}</h1>
      <RunsTable runs={all} />
    </>
  );
}
