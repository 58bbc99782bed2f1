import { Suspense, lazy, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { type RunSummary, type SuiteDetail, type TestLine, useRuns, useSuite, useTests } from "../data/api";
import { useFloor } from "../data/floor";
import { useFlaky } from "../data/history";
import { ForecastPlot } from "../parts/ForecastPlot";
import { Failing } from "../parts/Failing";
import { FlakyTable, testPage } from "../parts/Flaky";
import { Empty, Loading } from "../parts/Frame";
import { History } from "../parts/History";
import { DetailPage } from "../parts/Pages";
import { Parks } from "../parts/Parks";
import { RunsTable, doneOf, totalOf } from "../parts/RunsTable";
import { glyphOf, isOfHunt, stateOf, toneOf } from "../parts/states";
import { Polls } from "../parts/Polls";
import { SuiteMeasures } from "../parts/SuiteMeasures";
import { Facts, TestName, When, plain, span } from "../parts/words";

/** The plots come with a library of their own, which only this page needs. */
const Trend = lazy(() => import("../parts/Trend"));

export function SuitePage() {
  const { suite: name = "" } = useParams();
  const suite = useSuite(name);
  return (
    <DetailPage query={suite} what={`the suite ${name}`}>
      {(one) => <OneSuite name={name} s={one} />}
    </DetailPage>
  );
}

function OneSuite({ name, s }: { name: string; s: SuiteDetail }) {
  const [asked] = useSearchParams();
  const history = useRuns({ suite: name, limit: 60 });
  const floor = useFloor();
  const navigate = useNavigate();
  const tests = useTests(name, { run_parked: true }, Boolean(s.entries));
  const runs = (history.data ?? s.last_runs).map((run) => floor.runs.get(run.name) ?? run);
  const known = new Set(runs.map((run) => run.name));
  const fresh = [...floor.runs.values()].filter((run) => run.suite === name && !known.has(run.name));
  const all = [...fresh, ...runs].sort((a, b) => b.number - a.number);
  const over = all.filter((run) => run.verdict && !isOfHunt(run));
  const passed = over.filter((run) => run.verdict === "passed").length;
  const test = asked.get("test");
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure name">{s.name}</h1>
        <p>{s.about}</p>
        {s.trouble ? (
          <p role="status" className="tone-failed">
            ◆ {plain(s.trouble)}
          </p>
        ) : null}
        {over.length > 0 ? (
          <>
            <p className="under-figure">
              {passed} of the last {over.length} runs passed
            </p>
            <div className="run-strip" role="group" aria-label="Last runs, the latest on the right">
              {[...all].reverse().map((run) => (
                <Link key={run.name} to={`/runs/${run.name}`} className={`run-cell fill-of-${stateOf(run)}`} title={`${run.name} ${stateOf(run)}: ${doneOf(run)} of ${totalOf(run)} done`} aria-label={`${run.name} ${stateOf(run)}`}>
                  <span className={toneOf(stateOf(run))}>{glyphOf(stateOf(run))}</span>
                </Link>
              ))}
            </div>
          </>
        ) : null}
        <Failing suite={name} version={over[0]?.name ?? ""} />
        {test ? (
          <section className="chosen-test">
            <h2>
              <TestName name={test} variant={asked.get("variant")} />
            </h2>
            <History version={over[0]?.name ?? ""} suite={name} test={test} variant={asked.get("variant") ?? ""} />
          </section>
        ) : null}
        {all.length > 0 ? (
          <>
            <RunsTable runs={all.slice(0, 8)} />
            {all.length > 8 ? (
              <p>
                <Link to={`/runs?suite=${name}`}>All runs of it</Link> · <Link to={`/covers?suite=${name}`}>Requirements that its tests cover</Link>
              </p>
            ) : null}
            <h2>Over time</h2>
            <Suspense fallback={<Loading what="the plots" />}>
              <LikeWithLike runs={over} />
            </Suspense>
            <FlakyOf suite={name} version={over[0]?.name ?? ""} />
            {tests.data ? <Slowest suite={name} tests={tests.data.tests} /> : null}
            <h2>By number of shards</h2>
            <ForecastPlot suite={s.name} />
          </>
        ) : (
          <Empty>
            It has not run yet. Start it here, or in a terminal: <code>kesmo start {s.name} --wait</code>
          </Empty>
        )}
        <SuiteMeasures suite={s.name} />
        {s.git ? <Polls suite={s.name} /> : null}
        <Parks suite={s.name} parks={s.parks} />
      </section>
      <aside>
        <p>
          <Button onClick={() => void navigate(`/start?suite=${s.name}`)}>Start a run</Button>
        </p>
        <Facts
          rows={[
            ["Tests", s.entries ?? "not listed yet"],
            ["Retries", s.retries],
            ["Next start", s.next_start ? <span key="next"><When at={s.next_start[0]} /> by <Link to={`/schedules/${s.next_start[1]}`}>{s.next_start[1]}</Link></span> : <Link key="none" to="/schedules">nothing is scheduled</Link>],
            ["From", s.git ? <span key="git" className="name">{s.git.url}{s.git.folder ? ` ${s.git.folder}` : ""}</span> : null],
            ["Branch", s.git?.branch ? <span key="branch" className="name">{s.git.branch}</span> : null],
            ["Facets", s.facets.map((f) => <div key={f.name}>{`${f.name}: ${f.values.join(", ")}`}</div>)],
            ["Image", s.image ? <span key="image" className="name">{s.image}</span> : null],
            ["Reaches", s.reach.map((name) => <div key={name}>⇄ <span className="name">{name}</span></div>)],
            ["Needs", Object.entries(s.needs).map(([k, v]) => `${k}=${v}`).join(", ")],
            ["Settings", Object.entries(s.settings).map(([k, v]) => `${k} = ${v}`).join(", ")],
            ["Environments", s.environments.join(", ")],
            ["Bundle", <code key="bundle">{s.bundle.slice(0, 12)}</code>],
            ["Added", <When key="added" at={s.added_at} />],
          ]}
        />
        <details>
          <summary>kesmo.toml</summary>
          <pre className="output">{plain(s.file)}</pre>
        </details>
      </aside>
    </div>
  );
}

/** Trends of runs that chose the same tests: those of the kind that ran most, or of another that is chosen. */
function LikeWithLike({ runs }: { runs: RunSummary[] }) {
  const kinds = new Map<string, { said: string; runs: RunSummary[] }>();
  for (const run of runs) {
    const kind = kinds.get(run.alike?.key ?? "") ?? { said: run.alike?.said ?? "", runs: [] };
    kind.runs.push(run);
    kinds.set(run.alike?.key ?? "", kind);
  }
  const sorted = [...kinds.entries()].sort((a, b) => b[1].runs.length - a[1].runs.length);
  const [chosen, choose] = useState("");
  const shown = kinds.get(chosen) ?? sorted[0]?.[1];
  if (!shown) return null;
  return (
    <>
      {sorted.length > 1 ? (
        <Form.Select size="sm" className="kinds" aria-label="Runs of which tests" value={chosen || sorted[0]?.[0]} onChange={(e) => choose(e.target.value)}>
          {sorted.map(([key, kind]) => (
            <option key={key} value={key}>
              {plain(kind.said).slice(0, 80)} ({kind.runs.length} {kind.runs.length === 1 ? "run" : "runs"})
            </option>
          ))}
        </Form.Select>
      ) : null}
      <Trend runs={shown.runs.slice(0, 40)} />
    </>
  );
}

/** The tests of the suite that were flaky of late. */
function FlakyOf({ suite, version }: { suite: string; version: string }) {
  const found = useFlaky(suite, version).data;
  if (!found || found.tests.length === 0) return null;
  return (
    <section aria-label="Flaky tests">
      <h2>Flaky</h2>
      <FlakyTable tests={found.tests} most={10} />
      {found.tests.length > 10 ? <p className="under-figure">The first 10 of {found.tests.length}: kesmo flaky {suite}</p> : null}
    </section>
  );
}

/** The slowest tests, by the record. */
function Slowest({ suite, tests }: { suite: string; tests: TestLine[] }) {
  const slowest = tests.filter((t) => t.expected_us).sort((a, b) => (b.expected_us ?? 0) - (a.expected_us ?? 0)).slice(0, 8);
  return (
    <div className="lists">
      <section aria-label="Slowest tests">
        <h2>Slowest</h2>
        {slowest.length === 0 ? <p className="under-figure">Nothing was measured yet.</p> : null}
        <ol>
          {slowest.map((t) => (
            <li key={t.name + t.variant}>
              <span className="number">{span(t.expected_us)}</span>{" "}
              <Link to={testPage(suite, t.name, t.variant)} className="plain">
                <TestName name={t.name} variant={t.variant} />
              </Link>
            </li>
          ))}
        </ol>
      </section>
    </div>
  );
}
