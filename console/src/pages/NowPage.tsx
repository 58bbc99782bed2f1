// What goes on now, what needs attention, and what just ended.

import { Link } from "react-router";

import { type RunSummary, type Suite, useRuns, useSuites } from "../data/api";
import { useFloor } from "../data/floor";
import { useNotices } from "../data/notices";
import { failingSaid } from "../parts/Failing";
import { Empty, Loading, Trouble } from "../parts/Frame";
import { RunsTable, doneOf, tookOf, totalOf } from "../parts/RunsTable";
import { SmallStrip } from "../parts/Strip";
import { State, isOfHunt, stateOf } from "../parts/states";
import { When, plain, said, span, useNow } from "../parts/words";

export function NowPage() {
  const runs = useRuns({ limit: 30 });
  const suites = useSuites();
  const notices = useNotices();
  const floor = useFloor();
  const now = useNow(true);
  if (runs.error) return <Trouble error={runs.error} />;
  if (!runs.data || !suites.data) return <Loading what="what goes on" />;
  // What changed since the list was read, and what is new, comes from the live stream.
  const kept = runs.data.map((run) => floor.runs.get(run.name) ?? run);
  const names = new Set(kept.map((run) => run.name));
  const all = [...[...floor.runs.values()].filter((run) => !names.has(run.name)), ...kept].sort((a, b) => b.created_at.localeCompare(a.created_at));
  const going = all.filter((run) => !run.verdict);
  const working = going.filter((run) => !run.waiting_for);
  const waiting = going.filter((run) => run.waiting_for);
  const ended = all.filter((run) => run.verdict).slice(0, 12);
  const slots = floor.workers.flatMap((w) => w.slots);
  const busy = slots.filter((s) => s.run || s.doing).length;
  const needs = attention(suites.data, floor.runs);
  const away = floor.workers.filter((w) => !w.connected);
  const overloaded = floor.workers.filter((w) => w.overloaded);
  const untold = (notices.data ?? []).filter((notice) => notice.trouble && !notice.paused);
  if (all.length === 0) {
    return (
      <Empty>
        <h1 className="figure">Nothing has run yet</h1>
        {suites.data.length === 0 ? (
          <>
            Add a suite in a terminal: <code>kesmo suite add FOLDER</code>
          </>
        ) : (
          <>
            <Link to="/start">Start a run</Link>, or in a terminal: <code>kesmo start {suites.data[0].name} --wait</code>
          </>
        )}
      </Empty>
    );
  }
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure">{working.length > 0 ? `${working.length} ${working.length === 1 ? "run" : "runs"} in progress` : waiting.length > 0 ? `${waiting.length} waiting` : "Nothing is running"}</h1>
        <p className="under-figure">
          {busy} of {slots.length} slots busy{waiting.length > 0 && working.length > 0 ? `, ${waiting.length} ${waiting.length === 1 ? "run waits" : "runs wait"}` : ""}
        </p>
        {working.length > 0 ? (
          <ul className="going" aria-label="Runs in progress">
            {working.map((run) => (
              <Going key={run.name} run={run} now={now} />
            ))}
          </ul>
        ) : null}
        {waiting.length > 0 ? (
          <>
            <h2>
              Waiting <Link to="/queue">in this order</Link>
            </h2>
            <ul className="waiting" aria-label="Runs that wait">
              {waiting.map((run) => (
                <li key={run.name}>
                  <Link to={`/runs/${run.name}`} className="name">
                    {run.name}
                  </Link>{" "}
                  <span className="tone-void">⊘ {plain(run.waiting_for ?? "")}</span>
                </li>
              ))}
            </ul>
          </>
        ) : null}
        <h2>Just ended</h2>
        {ended.length > 0 ? <RunsTable runs={ended} /> : <p className="under-figure">No run has ended yet.</p>}
        <p>
          <Link to="/runs">All runs</Link>
        </p>
      </section>
      <aside>
        <h2>Needs attention</h2>
        {needs.length + away.length + overloaded.length + untold.length === 0 ? <p className="under-figure">Nothing does.</p> : null}
        <ul className="needs">
          {needs.map((need) => (
            <li key={need.suite}>
              {need.failing > 0 ? (
                <>
                  <span className="tone-failed">◆</span> <Link to={`/suites/${need.suite}`}>{need.suite}: {failingSaid(need.failing)}</Link>
                </>
              ) : (
                <>
                  <State of={need.last.verdict ?? "failed"} /> <Link to={`/runs/${need.last.name}`} className="name">{need.last.name}</Link>
                </>
              )}
              <div className="why">
                {need.failing > 0 && need.last.verdict !== "passed" ? <><Link to={`/runs/${need.last.name}`} className="name">{need.last.name}</Link>: </> : null}
                {need.said}
                {need.last.finished_at ? (
                  <>
                    , <When at={need.last.finished_at} ago={now} />
                  </>
                ) : null}
              </div>
            </li>
          ))}
          {untold.map((notice) => (
            <li key={notice.name}>
              <span className="tone-failed">◆</span> <Link to={`/notices/${notice.name}`}>notice {notice.name}</Link>
              <div className="why">does not get through: {plain(notice.trouble ?? "")}</div>
            </li>
          ))}
          {away.map((worker) => (
            <li key={worker.name}>
              <span className="tone-failed">↯</span> <Link to="/workers" className="name">{worker.name}</Link>
              <div className="why">is away: its work goes elsewhere if it does not come back</div>
            </li>
          ))}
          {overloaded.map((worker) => (
            <li key={worker.name}>
              <span className="tone-flaky">◐</span> <Link to="/workers" className="name">{worker.name}</Link>
              <div className="why">{worker.overloaded}</div>
            </li>
          ))}
        </ul>
      </aside>
    </div>
  );
}

function Going({ run, now }: { run: RunSummary; now: number }) {
  const [done, total] = [doneOf(run), totalOf(run)];
  return (
    <li>
      <div className="going-head">
        <Link to={`/runs/${run.name}`} className="name">
          {run.name}
        </Link>
        <State of={stateOf(run)} />
        {run.tally.failed > 0 ? <span className="tone-failed">◆ {run.tally.failed} failed</span> : null}
        <span className="going-left">{run.left && total > 0 ? `${said(run.left)} left` : span(tookOf(run, now))}</span>
      </div>
      <SmallStrip strip={run.strip} done={done} total={total} label={`Outcomes of ${run.name}`} />
      <small>
        {total > 0 ? `${done} of ${total} done, ${run.slots} ${run.slots === 1 ? "slot" : "slots"}` : "its tests are being listed"}, by {run.started_by}
      </small>
    </li>
  );
}

interface Need {
  suite: string;
  last: RunSummary;
  /** Tests that fail now. */
  failing: number;
  said: string;
}

/** Suites whose last run that is over did not pass, with for how long that is so. */
function attention(suites: Suite[], live: Map<string, RunSummary>): Need[] {
  const needs: Need[] = [];
  for (const suite of suites) {
    const over = suite.last_runs.map((run) => live.get(run.name) ?? run).filter((run) => run.verdict && run.verdict !== "stopped" && !isOfHunt(run));
    const last = over[0];
    const failing = suite.failing ?? 0;
    if (!last || (last.verdict === "passed" && failing === 0)) continue;
    const passed = over.findIndex((run) => run.verdict === "passed");
    const times = passed < 0 ? over.length : passed;
    const what = last.verdict === "void" || last.tally.failed === 0 ? plain(last.reason) : `${last.tally.failed} of ${totalOf(last)} failed`;
    const since = passed < 0 ? `not passed in its last ${over.length}` : times > 1 ? `${times} times since ${over[passed].name} passed` : `${over[passed].name} passed`;
    // A run of some tests that passed says nothing of the others.
    const passes = last.verdict === "passed";
    needs.push({ suite: suite.name, last, failing, said: passes ? "though its last run passed: that had other tests" : `${what}; ${since}` });
  }
  return needs.sort((a, b) => b.last.created_at.localeCompare(a.last.created_at));
}
