// One page for a screen across the room: suites as tiles with verdict, trend and running progress. There is nothing to click.

import { useEffect } from "react";

import { type RunSummary, type Suite, useSuites } from "../data/api";
import { useFloor } from "../data/floor";
import { Empty, Loading } from "../parts/Frame";
import { doneOf, totalOf } from "../parts/RunsTable";
import { SmallStrip } from "../parts/Strip";
import { glyphOf, isOfHunt, stateOf, toneOf } from "../parts/states";
import { before, plain, said, span, useNow } from "../parts/words";

/** Suites are asked for again so often, for what the stream does not tell: new suites, runs that ended while it was cut. */
const AGAIN = 30_000;

export function WallPage() {
  const suites = useSuites();
  const floor = useFloor();
  const now = useNow(true);
  const { refetch } = suites;
  useEffect(() => {
    const timer = setInterval(() => void refetch(), AGAIN);
    return () => clearInterval(timer);
  }, [refetch]);
  if (!suites.data) return suites.error ? <Empty>◆ {suites.error.message}</Empty> : <Loading what="the suites" />;
  if (suites.data.length === 0) return <Empty>No suite yet: kesmo suite add FOLDER</Empty>;
  const tiles = suites.data.map((suite) => tile(suite, floor.runs));
  // What is broken stands first, so that it is seen however many there are.
  const rank = (verdict: string) => ["failed", "void", "stopped", "passed", ""].indexOf(verdict);
  tiles.sort((a, b) => rank(stands(a)) - rank(stands(b)) || a.suite.localeCompare(b.suite));
  const slots = floor.workers.flatMap((w) => w.slots);
  const busy = slots.filter((s) => s.run || s.doing).length;
  const broken = tiles.filter((t) => ["failed", "void"].includes(stands(t))).length;
  return (
    <>
      <h1 className="wall-head">
        {broken === 0 ? <span className="tone-passed">● All {tiles.length} suites passing</span> : <span className="tone-failed">◆ {broken} of {tiles.length} suites in trouble</span>}
        <small>
          {floor.linked ? `${busy} of ${slots.length} slots busy` : <span className="tone-failed">↯ not linked</span>} · {new Date(now).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hourCycle: "h23" })}
        </small>
      </h1>
      <ul className="wall">
        {tiles.map((t) => (
          <li key={t.suite} className={`wall-tile edge-${stands(t) || "not-run"}`}>
            <h2>{t.suite}</h2>
            {t.failing > 0 ? (
              <p className="wall-verdict tone-failed">◆ {t.failing} failing</p>
            ) : (
              <p className={`wall-verdict ${toneOf(t.last?.verdict ?? "not-run")}`}>{t.last ? `${glyphOf(t.last.verdict ?? "")} ${t.last.verdict}` : "– never run"}</p>
            )}
            <p className="wall-why">
              {t.failing > 0 && t.last ? <span className={toneOf(t.last.verdict ?? "")}>{`last run ${t.last.verdict}: `}</span> : null}
              {t.last ? why(t.last, now) : ""}
            </p>
            <p className="wall-trend" aria-label="The runs before it, the latest first">
              {t.before.map((run) => (
                <span key={run.name} className={toneOf(stateOf(run))}>
                  {glyphOf(stateOf(run))}
                </span>
              ))}
            </p>
            {t.going ? (
              <div className="wall-going">
                <SmallStrip strip={t.going.strip} done={doneOf(t.going)} total={totalOf(t.going)} label={`Outcomes of ${t.going.name}`} />
                <p>
                  <span className="tone-running">≈</span> {t.going.left && totalOf(t.going) > 0 ? `${said(t.going.left)} left` : t.going.waiting_for ? "waiting" : t.going.phase}
                  {t.going.tally.failed > 0 ? <span className="tone-failed"> ◆ {t.going.tally.failed}</span> : null}
                </p>
              </div>
            ) : null}
          </li>
        ))}
      </ul>
    </>
  );
}

function tile(suite: Suite, live: Map<string, RunSummary>) {
  const known = suite.last_runs.map((run) => live.get(run.name) ?? run);
  const names = new Set(known.map((run) => run.name));
  const fresh = [...live.values()].filter((run) => run.suite === suite.name && !names.has(run.name));
  const all = [...fresh, ...known].filter((run) => !isOfHunt(run)).sort((a, b) => b.number - a.number);
  const over = all.filter((run) => run.verdict);
  return { suite: suite.name, failing: suite.failing ?? 0, going: all.find((run) => !run.verdict), last: over[0] as RunSummary | undefined, before: over.slice(1, 11) };
}

/** How a suite stands: as its last run did, and failed as long as a test of it fails, whatever ran since. */
const stands = (t: { failing: number; last: RunSummary | undefined }) => (t.failing > 0 ? "failed" : (t.last?.verdict ?? ""));

function why(run: RunSummary, now: number): string {
  const when = run.finished_at ? before(now - Date.parse(run.finished_at)) : "";
  const total = totalOf(run);
  const what = run.verdict === "failed" && run.tally.failed > 0 ? `${run.tally.failed} of ${total} failed` : run.verdict === "passed" ? `${total} tests${run.tally.flaky > 0 ? `, ${run.tally.flaky} flaky` : ""}` : plain(run.reason);
  const took = run.began_at && run.finished_at ? `, ${span((Date.parse(run.finished_at) - Date.parse(run.began_at)) * 1000)}` : "";
  return `${what}${took}, ${when}`;
}
