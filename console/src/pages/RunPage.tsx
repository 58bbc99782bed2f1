import { Button } from "react-bootstrap";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { type Run, useAgain, useMayOperate, useStop } from "../data/api";
import { type LiveRun, useLiveRun } from "../data/run";
import { Causes, VariantTable } from "../parts/Causes";
import { NewInRun } from "../parts/Compared";
import { CaseTable } from "../parts/CaseTable";
import { EntryTable } from "../parts/EntryTable";
import { Figures, Parts } from "../parts/Figures";
import { Alarm, Cut, Empty, Loading } from "../parts/Frame";
import { doneOf, tookOf, totalOf } from "../parts/RunsTable";
import { Chain, Commit, Origin } from "../parts/Origin";
import { RunMachines } from "../parts/Machines";
import { Measures } from "../parts/Measures";
import { ShareRun } from "../parts/Share";
import { Strip } from "../parts/Strip";
import { State, isOfHunt, stateOf } from "../parts/states";
import { Timeline } from "../parts/Timeline";
import { Facts, Image, TestName, When, capital, casesSaid, plain, said, span, useNow } from "../parts/words";

export function RunPage() {
  const { suite = "", number = "" } = useParams();
  const name = `${suite}/${number}`;
  const { live, missing } = useLiveRun(name);
  if (missing && !live) {
    return (
      <Empty>
        <h1 className="figure name">{name}</h1>
        <span className="tone-failed">◆</span> {capital(plain(missing))} See the <Link to={`/suites/${suite}`}>runs of {suite}</Link>.
      </Empty>
    );
  }
  if (!live) return <Loading what={`the run ${name}`} />;
  return <OneRun key={name} name={name} live={live} />;
}

function OneRun({ name, live }: { name: string; live: LiveRun }) {
  const { run } = live;
  const now = useNow(!run.verdict);
  const [, setAsked] = useSearchParams();
  const done = doneOf(run);
  const total = totalOf(run);
  const took = tookOf(run, now);
  const choose = (text: string) => setAsked(text ? { name: text } : {}, { replace: true });
  return (
    <div className="two-columns">
      <section>
        {live.linked || run.verdict ? null : <Cut />}
        <h1 className="figure">
          {run.verdict ? (
            <State of={run.verdict} />
          ) : run.left && total > 0 ? (
            <>
              {said(run.left)} <small>left</small>
            </>
          ) : (
            <State of={stateOf(run)} />
          )}{" "}
          {run.tally.failed > 0 && !run.verdict ? <small className="tone-failed">◆ {run.tally.failed} failed so far</small> : null}
        </h1>
        <p className="under-figure">
          {run.reason ? <span>{plain(run.reason)}. </span> : null}
          {run.waiting_for ? <span className="tone-void">{capital(plain(run.waiting_for))}. </span> : null}
          {total > 0 ? `${done} of ${total} ${run.tally.cases ? "files " : ""}done in ${span(took)}` : null}
          {run.tally.cases ? `; ${casesSaid(run.tally.cases)}` : null}
        </p>
        <Chain run={run} />
        {run.verdict && total > 0 && !isOfHunt(run) ? <NewInRun run={name} /> : null}
        <Strip stretches={live.strip} total={Math.max(total, 1)} running={run.tally.running} height={28} label={`Outcomes of ${name}`} />
        <Figures run={run} took={took} />
        <Measures run={name} over={Boolean(run.verdict)} />
        <SlotsAtWork live={live} now={now} />
        <RunMachines run={name} over={Boolean(run.verdict)} />
        {run.tally.failed + run.tally.flaky > 1 ? <Causes run={name} version={live.version} onName={choose} /> : null}
        <Timeline run={name} version={live.version} every={done > 3000 ? 10 : 2} over={Boolean(run.verdict)} />
        {run.variants.length > 1 ? <VariantTable run={name} version={live.version} /> : null}
        <Parts run={name} version={live.version} onName={choose} />
        {run.tally.cases ? <CaseTable run={name} tally={run.tally.cases} version={live.version} /> : null}
        {run.tally.cases ? <h2>Files</h2> : null}
        <EntryTable name={name} live={live} />
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
            ["Environment", run.options.env],
            ["Reaches", (run.reach ?? []).map((name) => <div key={name}>⇄ <span className="name">{name}</span></div>)],
            ["Image", (run.images ?? []).map((image) => <Image key={image.name} of={image} />)],
            ["Pool", <Link key="pool" to={`/pools/${run.pool}`}>{run.pool}</Link>],
            ["Machines", run.machines],
            ["Within", run.options.within == null ? null : span(run.options.within)],
            ["Budget", run.options.budget == null ? null : `${span(run.options.budget)} of slots`],
            ["Started", <span key="at"><When at={run.created_at} />{run.origin?.kind === "imported" ? ", brought" : ""} by {run.started_by}</span>],
            ["Trigger", run.origin?.name || run.origin?.kind === "imported" ? <Origin key="origin" run={run} /> : null],
            ["Brief", run.origin?.brief ? <Link key="brief" to={`/briefs/${run.origin.brief}`}>{run.origin.brief}</Link> : null],
            ["Changed", (run.origin?.changed ?? []).map((change) => <div key={change}>{plain(change)}</div>)],
            ["Branch", run.branch ? <span key="branch" className="name">{plain(run.branch)}</span> : null],
            ["Commit", run.commit ? <Commit key="commit" of={run.commit} /> : null],
            ["From", run.git ? <span key="git" className="name">{run.git.url}{run.git.folder ? ` ${run.git.folder}` : ""}</span> : null],
            ["Place", run.place && !run.verdict ? <Link key="place" to="/queue">{`${run.place[0]} of ${run.place[1]}`}</Link> : null],
            ["Ended", run.finished_at ? <When key="end" at={run.finished_at} /> : null],
            ["Bundle", <code key="bundle">{run.bundle.slice(0, 12)}</code>],
          ]}
        />
        {run.notes.length > 0 ? (
          <>
            <h2>Remarks</h2>
            <ul className="remarks">
              {run.notes.slice(-12).map((note, i) => (
                <li key={`${i}-${note}`}>{plain(note)}</li>
              ))}
            </ul>
          </>
        ) : null}
      </aside>
    </div>
  );
}


/** What each slot runs now, and whether that takes long for that test. */
function SlotsAtWork({ live, now }: { live: LiveRun; now: number }) {
  if (live.slots.length === 0) return null;
  // Of many slots those are told whose tests began first.
  const all = live.slots.length < 200 ? live.slots.length : Math.max(live.run.slots, live.slots.length);
  const more = all - Math.min(64, live.slots.length);
  return (
    <ul className="slots" aria-label="Slots at work">
      {live.slots.slice(0, 64).map((slot) => {
        const since = slot.since ? Math.max(0, now - Date.parse(slot.since)) * 1000 : null;
        const late = since !== null && slot.late_after_us != null && since > slot.late_after_us;
        return (
          <li key={`${slot.worker}.${slot.number}`}>
            <span className={late ? "tone-flaky" : "tone-running"} title={late ? "It takes long for this test" : "running"}>
              {late ? "◔" : "≈"}
            </span>{" "}
            <span className="name">
              {slot.worker}.{slot.number}
            </span>{" "}
            <small className={late ? "tone-flaky" : undefined}>
              {since === null ? "" : span(since)}
              {late ? `, usually ${span(slot.expected_us)}` : ""}
            </small>{" "}
            {slot.doing ? <TestName name={slot.doing} variant={slot.variant} /> : "starting"}
          </li>
        );
      })}
      {more > 0 ? <li>… and {more} more</li> : null}
    </ul>
  );
}

function Actions({ name, run }: { name: string; run: Run }) {
  const may = useMayOperate();
  const stop = useStop(name);
  const again = useAgain(name);
  const navigate = useNavigate();
  if (!may) return null;
  const repeat = (not_passed: boolean) => again.mutate(not_passed, { onSuccess: (made) => void navigate(`/runs/${made.name}`) });
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
          <a className="btn btn-sm btn-outline-primary" href={`/api/runs/${name}/report?as=html`} download={`${name.replace("/", "-")}.html`}>
            HTML report
          </a>
          <a className="btn btn-sm btn-outline-primary" href={`/api/runs/${name}/report?as=junit`} download={`${name.replace("/", "-")}.xml`}>
            JUnit XML
          </a>
          <ShareRun run={name} />
        </>
      ) : (
        <Button size="sm" variant="outline-danger" onClick={() => stop.mutate()} disabled={stop.isPending}>
          ■ Stop
        </Button>
      )}
      <Alarm said={error?.message} />
    </div>
  );
}
