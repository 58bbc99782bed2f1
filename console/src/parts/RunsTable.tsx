import { Table } from "react-bootstrap";
import { Link } from "react-router";

import type { RunSummary } from "../data/api";
import { SmallStrip } from "./Strip";
import { OUTCOMES, State, glyphOf, stateOf, toneOf } from "./states";
import { When, plain, said, span, useNow } from "./words";

/** Whatever has a tally. */
type Tallied = Pick<RunSummary, "tally">;

/** States that some entry is in, with how many. */
export function countsOf(run: Tallied): [string, number][] {
  const all: [string, number][] = [...OUTCOMES.map((o): [string, number] => [o, run.tally[o]]), ["running", run.tally.running], ["waiting", run.tally.waiting]];
  return all.filter(([, n]) => n > 0);
}

export function Counts({ run }: { run: Tallied }) {
  return (
    <span className="counts">
      {countsOf(run)
        .map(([state, n]) => (
          <span key={state} className={toneOf(state)} title={state}>
            {glyphOf(state)} {n}
          </span>
        ))}
    </span>
  );
}

export function doneOf(run: Tallied) {
  return OUTCOMES.reduce((sum, o) => sum + run.tally[o], 0);
}

export function totalOf(run: Tallied) {
  return doneOf(run) + run.tally.running + run.tally.waiting;
}

export function tookOf(run: RunSummary, now: number): number | null {
  if (!run.began_at) return null;
  const end = run.finished_at ? Date.parse(run.finished_at) : now;
  return Math.max(0, end - Date.parse(run.began_at)) * 1000;
}

export function RunsTable({ runs }: { runs: RunSummary[] }) {
  const now = useNow(runs.some((run) => !run.verdict));
  return (
    <Table size="sm" hover className="dense">
      <thead>
        <tr>
          <th>State</th>
          <th>Run</th>
          <th className="wide-only strip-column">Outcomes</th>
          <th className="wide-only">Tests</th>
          <th className="number">Took</th>
          <th className="wide-only">Started</th>
          <th className="wide-only">Labels</th>
        </tr>
      </thead>
      <tbody>
        {runs.map((run) => {
          const why = run.waiting_for ?? run.reason;
          const labels = Object.entries(run.labels).map(([k, v]) => `${k}=${v}`);
          return (
            <tr key={run.name}>
              <td>
                <State of={stateOf(run)} />
              </td>
              <td>
                <Link to={`/runs/${run.name}`} className="name">
                  {run.name}
                </Link>
                {why && run.verdict !== "failed" ? <div className="why">{plain(why)}</div> : null}
              </td>
              <td className="wide-only strip-column">
                <SmallStrip strip={run.strip} done={doneOf(run)} total={totalOf(run)} label={`Outcomes of ${run.name}`} />
              </td>
              <td className="wide-only">
                <Counts run={run} />
              </td>
              <td className="number">{run.verdict || !run.left ? span(tookOf(run, now)) : `${said(run.left)} left`}</td>
              <td className="wide-only"><When at={run.created_at} /></td>
              <td className="wide-only name">{labels.join(" ")}</td>
            </tr>
          );
        })}
      </tbody>
    </Table>
  );
}
