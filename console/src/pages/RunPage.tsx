import { useDeferredValue, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useNavigate, useParams } from "react-router";

import { type Run, useAgain, useEntries, useMe, useStop } from "../data/api";
import { type LiveRun, useLiveRun } from "../data/run";
import { Causes, VariantTable } from "../parts/Causes";
import { EntryRow } from "../parts/EntryRow";
import { Empty } from "../parts/Frame";
import { countsOf, doneOf, tookOf, totalOf } from "../parts/RunsTable";
import { Strip } from "../parts/Strip";
import { State, glyphOf, stateOf, toneOf } from "../parts/states";
import { Facts, TestName, moment, span, useNow } from "../parts/words";

export function RunPage() {
  const { suite = "", number = "" } = useParams();
  const name = `${suite}/${number}`;
  const { live, missing } = useLiveRun(name);
  if (missing && !live) {
    return (
      <Empty>
        There is no run {name}. See the <Link to={`/suites/${suite}`}>runs of {suite}</Link>.
      </Empty>
    );
  }
  if (!live) return <Empty>…</Empty>;
  return <OneRun key={name} name={name} live={live} />;
}

function OneRun({ name, live }: { name: string; live: LiveRun }) {
  const { run } = live;
  const now = useNow(!run.verdict);
  const [text, setText] = useState("");
  const done = doneOf(run);
  const total = totalOf(run);
  const took = tookOf(run, now);
  const rate = took && took > 0 ? done / (took / 1e6) : 0;
  const mean = run.stats.ended > 0 ? run.stats.total_us / run.stats.ended : null;
  const strip = live.strip.length > done ? live.strip.slice(0, done) : live.strip;
  // A snapshot's strip may be thinned; then it stands for all that was done.
  const stripTotal = strip.length < done && strip.length > 0 ? Math.round((strip.length * total) / done) : total;
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure">
          {run.verdict ? (
            <State of={run.verdict} />
          ) : run.left_us ? (
            <>
              {span(run.left_us)} <small>left</small>
            </>
          ) : (
            <State of={stateOf(run)} />
          )}
        </h1>
        <p className="under-figure">
          {run.reason ? <span>{run.reason}. </span> : null}
          {run.waiting_for ? <span className="tone-void">{capital(run.waiting_for)}. </span> : null}
          {total > 0 ? (
            <>
              {done} of {total} done in {span(took)}
              {run.stats.ended > 0 ? `, ${rate < 10 ? rate.toFixed(1) : rate.toFixed(0)} tests/s, mean ${span(mean)} (${span(run.stats.shortest_us)} to ${span(run.stats.longest_us)})` : ""}
            </>
          ) : null}
        </p>
        <Strip letters={strip} total={Math.max(stripTotal, 1)} running={run.tally.running} height={28} label={`Outcomes of ${name}`} />
        {live.slots.length > 0 ? (
          <ul className="slots" aria-label="Slots at work">
            {live.slots.map((slot) => (
              <li key={`${slot.worker}.${slot.number}`}>
                <span className="tone-running">▸</span>{" "}
                <span className="name">
                  {slot.worker}.{slot.number}
                </span>{" "}
                {slot.doing ? <TestName name={slot.doing} variant={slot.variant} /> : "starting"}{" "}
                {slot.since ? <small>{span(Math.max(0, now - Date.parse(slot.since)) * 1000)}</small> : null}
              </li>
            ))}
          </ul>
        ) : null}
        {run.tally.failed + run.tally.flaky > 1 ? <Causes run={name} version={live.version} onName={setText} /> : null}
        {run.variants.length > 1 ? <VariantTable run={name} version={live.version} /> : null}
        <EntryList name={name} live={live} text={text} setText={setText} />
      </section>
      <aside>
        <Actions name={name} run={run} />
        <Facts
          rows={[
            ["Suite", <Link key="suite" to={`/suites/${run.suite}`}>{run.suite}</Link>],
            ["Chosen", run.choice],
            ["Variants", run.variants.filter(Boolean).map((v) => <div key={v} className="name">{v}</div>)],
            ["Retries", run.options.retries ?? "as the suite says"],
            ["Shards", run.options.shards ?? "all slots"],
            ["Priority", run.options.priority],
            ["Seed", run.options.shuffle ? <code key="seed">{run.seed}</code> : null],
            ["Labels", Object.entries(run.labels).map(([k, v]) => <Link key={k} className="tag name" to={`/runs?label=${encodeURIComponent(`${k}=${v}`)}`}>{`${k}=${v}`}</Link>)],
            ["Settings", Object.entries(run.options.set ?? {}).map(([k, v]) => `${k} = ${v}`).join(", ")],
            ["Pool", run.pool],
            ["Started", `${moment(run.created_at)} by ${run.started_by}`],
            ["Bundle", <code key="bundle">{run.bundle.slice(0, 12)}</code>],
          ]}
        />
        {run.notes.length > 0 ? (
          <>
            <h2>Remarks</h2>
            <ul className="remarks">
              {run.notes.slice(-12).map((note, i) => (
                <li key={`${i}-${note}`}>{note}</li>
              ))}
            </ul>
          </>
        ) : null}
      </aside>
    </div>
  );
}

const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

function Actions({ name, run }: { name: string; run: Run }) {
  const me = useMe();
  const stop = useStop(name);
  const again = useAgain(name);
  const navigate = useNavigate();
  if (me.data?.role === "reader") return null;
  const repeat = (unpassed: boolean) => again.mutate(unpassed, { onSuccess: (made) => void navigate(`/runs/${made.name}`) });
  const error = stop.error ?? again.error;
  return (
    <div className="actions">
      {run.verdict ? (
        <>
          <Button size="sm" variant="outline-primary" onClick={() => repeat(false)} disabled={again.isPending}>
            Run again
          </Button>
          {run.verdict !== "passed" ? (
            <Button size="sm" variant="outline-primary" onClick={() => repeat(true)} disabled={again.isPending}>
              Only what did not pass
            </Button>
          ) : null}
          <a className="btn btn-sm btn-outline-primary" href={`/api/runs/${name}/report?as=junit`} download={`${name.replace("/", "-")}.xml`}>
            JUnit XML
          </a>
        </>
      ) : (
        <Button size="sm" variant="outline-danger" onClick={() => stop.mutate()} disabled={stop.isPending}>
          ■ Stop
        </Button>
      )}
      {error ? (
        <p role="alert" className="tone-failed">
          ◆ {error.message}
        </p>
      ) : null}
    </div>
  );
}

const PAGE = 100;

function EntryList({ name, live, text, setText }: { name: string; live: LiveRun; text: string; setText: (text: string) => void }) {
  const { run } = live;
  const [state, setState] = useState("");
  const [limit, setLimit] = useState(PAGE);
  const wanted = useDeferredValue(text);
  const entries = useEntries(name, { state, name: wanted, limit }, live.version);
  const [open, setOpen] = useState<number | null>(null);
  const choose = (next: string) => {
    setState(next === state ? "" : next);
    setLimit(PAGE);
  };
  return (
    <>
      <div className="filters" role="group" aria-label="Filter by state">
        {countsOf(run)
          .map(([of, n]) => (
            <button key={of} type="button" className={`filter ${toneOf(of)}`} aria-pressed={of === state} onClick={() => choose(of)}>
              {glyphOf(of)} {n} {of}
            </button>
          ))}
        <Form.Control size="sm" type="search" placeholder="part of a name" aria-label="Filter by name" value={text} onChange={(e) => setText(e.target.value)} />
      </div>
      {entries.data && entries.data.total > 0 ? (
        <table className="table table-sm dense entries">
          <thead>
            <tr>
              <th>State</th>
              <th>Test</th>
              <th className="number wide-only">Attempts</th>
              <th className="number">Took</th>
              <th className="wide-only">Worker</th>
            </tr>
          </thead>
          <tbody>
            {entries.data.entries.map((entry) => (
              <EntryRow
                key={entry.index}
                run={name}
                entry={entry}
                version={live.version}
                open={open === entry.index}
                onOpen={() => setOpen(open === entry.index ? null : entry.index)}
              />
            ))}
          </tbody>
        </table>
      ) : (
        <Empty>{total(entries.data?.total, state, text, run)}</Empty>
      )}
      {entries.data && entries.data.total > entries.data.entries.length ? (
        <Button variant="link" onClick={() => setLimit(Math.min(limit * 3, 1000))} disabled={limit >= 1000}>
          {entries.data.entries.length} of {entries.data.total} shown; show more
        </Button>
      ) : null}
    </>
  );
}

function total(found: number | undefined, state: string, text: string, run: Run) {
  if (found === undefined) return "…";
  if (state || text) return "No test is in this state with this name.";
  return run.verdict ? "This run has no tests." : "The tests are being listed.";
}
