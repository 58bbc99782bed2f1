// One entry of a run: its attempts side by side, with what they said, printed and left behind, and its record.

import { useEffect, useMemo, useState } from "react";
import { Form } from "react-bootstrap";
import { Link, useLocation, useParams, useSearchParams } from "react-router";

import { type Artifact, type Attempt, type EntryDetail, useEntry, useLog } from "../data/api";
import { openStream } from "../data/stream";
import { CaseTable } from "../parts/CaseTable";
import { Empty, Loading } from "../parts/Frame";
import { History } from "../parts/History";
import { Output } from "../parts/Output";
import { State, glyphOf, toneOf } from "../parts/states";
import { Facts, Image, Nth, TestName, When, plain, size, span } from "../parts/words";

export function EntryPage() {
  const { suite = "", number = "", index = "" } = useParams();
  const run = `${suite}/${number}`;
  const [version, setVersion] = useState(0);
  const detail = useEntry(run, Number(index), version);
  const place = useLocation().state as { back?: string } | null;
  if (detail.error && !detail.data) {
    return (
      <Empty>
        <h1 className="figure name">{run}</h1>
        <span className="tone-failed">◆</span> {plain(detail.error.message)} See <Link to={`/runs/${run}`}>the run</Link>.
      </Empty>
    );
  }
  if (!detail.data) return <Loading what="the test" />;
  return <OneEntry key={`${run}/${index}`} run={run} suite={suite} d={detail.data} back={place?.back ?? ""} version={version} onChange={() => setVersion((n) => n + 1)} />;
}

function OneEntry({ run, suite, d, back, version, onChange }: { run: string; suite: string; d: EntryDetail; back: string; version: number; onChange: () => void }) {
  const state = d.outcome ?? (d.running ? "running" : "waiting");
  const [asked] = useSearchParams();
  const chosen = Number(asked.get("attempt") ?? 0);
  const pictures = useMemo(() => byPath(d.history), [d.history]);
  return (
    <>
      <p className="back">
        <Link to={`/runs/${run}${back ? `?${back}` : ""}`}>← {run}</Link>
      </p>
      <h1 className="figure">
        <State of={state} /> <TestName name={d.test} variant={d.variant} />
        <Nth of={d} />
      </h1>
      <div className="two-columns">
        <section>
          {d.history.length === 0 && !d.running ? <p className="under-figure">It has no attempt yet.</p> : null}
          <div className="attempt-columns">
            {d.history.map((attempt) => (
              <OneAttempt key={attempt.number} run={run} index={d.index} attempt={attempt} only={d.history.length === 1} chosen={attempt.number === chosen} last={attempt.number === d.history.length} />
            ))}
          </div>
          {d.cases ? <CaseTable run={run} tally={d.cases} version={version} entry={d.index} /> : null}
          {d.outcome ? null : <LiveOutput run={run} index={d.index} shown={d.history.length} onEnd={onChange} />}
          {pictures.length > 0 ? <Compare pictures={pictures} /> : null}
        </section>
        <aside>
          <Facts
            rows={[
              ["Retries", d.retries_said],
              ["Usually", d.expected_us ? span(d.expected_us) : null],
              ["Claims", d.claims.join(", ")],
              ["Image", d.image ? <Image key="image" of={d.image} /> : null],
              ["Group", d.group ? "runs with its group" : null],
              ["Parked", d.parked ? <span key="parked" className="tone-parked">▭ {plain(d.parked)}</span> : null],
            ]}
          />
          <History suite={suite} test={d.test} variant={d.variant} here={run} />
          <h2>In a terminal</h2>
          <pre className="command">{`kesmo log ${run} ${d.test}${d.variant ? d.variant.split(", ").map((v) => ` --variant ${v}`).join("") : ""}`}</pre>
          {d.outcome === "failed" || d.outcome === "flaky" ? <pre className="command">{`kesmo hunt ${run} ${d.test}`}</pre> : null}
        </aside>
      </div>
    </>
  );
}

function OneAttempt({ run, index, attempt, only, chosen, last }: { run: string; index: number; attempt: Attempt; only: boolean; chosen: boolean; last: boolean }) {
  const { hash } = useLocation();
  const [shown, setShown] = useState(attempt.log_bytes > 0 && attempt.log_bytes < 1_000_000 && (only || chosen || last || attempt.log_bytes < 20_000));
  const log = useLog(run, index, attempt.number, shown || hash.startsWith(`#a${attempt.number}L`));
  const pictures = attempt.artifacts.filter((file) => file.media_type.startsWith("image/"));
  const videos = attempt.artifacts.filter((file) => file.media_type.startsWith("video/"));
  const others = attempt.artifacts.filter((file) => !pictures.includes(file) && !videos.includes(file));
  return (
    <article className={`attempt${chosen ? " chosen" : ""}`} id={`attempt-${attempt.number}`} aria-label={`Attempt ${attempt.number}`}>
      <h2>
        Attempt {attempt.number}: <span className={toneOf(attempt.ended)}>{`${glyphOf(attempt.ended)} ${attempt.ended}`}</span> after {span(attempt.spent_us)}
      </h2>
      <p className="under-figure">
        on <span className="name">{attempt.worker}</span> slot {attempt.slot}, batch {attempt.batch}, <When at={attempt.began_at} />
      </p>
      {attempt.message ? <pre className="message">{plain(attempt.message)}</pre> : null}
      {attempt.around ? <Around attempt={attempt} /> : null}
      {attempt.steps.length > 0 ? (
        <ol className="steps">
          {attempt.steps.map((step, i) => (
            <li key={`${i}-${step.name}`}>
              <span className={step.ok ? "tone-passed" : "tone-failed"}>{step.ok ? "●" : "◆"}</span> {plain(step.name)}
              {step.ms === null || step.ms === undefined ? null : <small> {span(step.ms * 1000)}</small>}
            </li>
          ))}
        </ol>
      ) : null}
      {attempt.detail ? <pre className="output">{plain(attempt.detail)}</pre> : null}
      {attempt.log_bytes > 0 ? (
        <details open={shown} onToggle={(e) => setShown(e.currentTarget.open)}>
          <summary>
            Printed {size(attempt.log_bytes)} <a href={`/api/runs/${run}/entries/${index}/attempts/${attempt.number}/log`}>as a file</a>
          </summary>
          {log.data !== undefined ? <Output text={log.data} mark={`a${attempt.number}`} label={`what attempt ${attempt.number} printed`} /> : <p>{log.error ? log.error.message : "…"}</p>}
        </details>
      ) : (
        <p className="under-figure">It printed nothing.</p>
      )}
      {pictures.length > 0 ? (
        <div className="pictures">
          {pictures.map((file) => (
            <a key={file.digest + file.path} href={`/api/blobs/${file.digest}`} target="_blank" rel="noreferrer">
              <img src={`/api/blobs/${file.digest}`} alt={plain(file.about || file.path)} loading="lazy" />
              <small>
                {plain(file.about || file.path)} ({size(file.bytes)})
              </small>
            </a>
          ))}
        </div>
      ) : null}
      {videos.map((file) => (
        <figure key={file.digest + file.path} className="video">
          {/* What a test recorded has no words to show. */}
          <video src={`/api/blobs/${file.digest}`} controls preload="metadata" aria-label={plain(file.about || file.path)} />
          <figcaption>
            {plain(file.about || file.path)} ({size(file.bytes)})
          </figcaption>
        </figure>
      ))}
      {others.length > 0 ? (
        <ul className="files">
          {others.map((file) => (
            <li key={file.digest + file.path}>
              <a href={`/api/blobs/${file.digest}`}>{plain(file.path)}</a> ({size(file.bytes)}) {plain(file.about)}
            </li>
          ))}
        </ul>
      ) : null}
    </article>
  );
}

/** Where and after what a failing attempt ran. */
function Around({ attempt }: { attempt: Attempt }) {
  const around = attempt.around;
  if (!around) return null;
  const usual = attempt.expected_us ? attempt.spent_us / attempt.expected_us : null;
  const before = around.before_count === 0 ? "nothing" : `${around.before_count} ${around.before_count === 1 ? "test" : "tests"}, last ${around.before.slice(-3).join(", ")}`;
  return (
    <dl className="around">
      <dt>Order</dt>
      <dd>
        number {around.place} in shard {around.shard}; before it in its process: <span className="name">{plain(before)}</span>
      </dd>
      {around.on_worker.length > 0 ? (
        <>
          <dt>On its worker</dt>
          <dd>
            before it: <span className="name">{plain(around.on_worker.slice(-3).join(", "))}</span>
          </dd>
        </>
      ) : null}
      {attempt.of_slots > 0 ? (
        <>
          <dt>Load</dt>
          <dd>
            {attempt.busy} of {attempt.of_slots} slots busy
            {around.beside.length > 0 ? <>, beside it <span className="name">{plain(around.beside.slice(0, 3).join(", "))}</span></> : null}
            {usual ? `; ${usual.toFixed(1)} times its usual time` : ""}
          </dd>
        </>
      ) : null}
    </dl>
  );
}

/** What the attempt that runs prints, as it comes. */
function LiveOutput({ run, index, shown, onEnd }: { run: string; index: number; shown: number; onEnd: () => void }) {
  const [texts, setTexts] = useState<Record<number, string>>({});
  const [linked, setLinked] = useState(true);
  useEffect(() => {
    setTexts({});
    const output = (data: string) => {
      const piece = JSON.parse(data) as { attempt: number; text: string; gap: boolean };
      setLinked(true);
      setTexts((before) => {
        const known = before[piece.attempt] ?? "";
        // What is held here is bounded: a page that is open all day must not grow with it.
        const all = `${known}${piece.gap ? "\n[kesmo: some of it was cut or lost here]\n" : ""}${piece.text}`;
        return { ...before, [piece.attempt]: all.length > 2_000_000 ? all.slice(-1_500_000) : all };
      });
    };
    const attempt = () => onEnd();
    const end = () => {
      onEnd();
      return true;
    };
    return openStream(`/api/runs/${run}/entries/${index}/output`, { output, attempt, end }, () => setLinked(false));
    // A new stream only for another entry.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [run, index]);
  const text = texts[shown + 1];
  return (
    <article className="attempt" aria-label="The attempt that runs">
      <h2>
        <span className="tone-running">≈</span> Attempt {shown + 1} {text === undefined ? "has printed nothing yet" : "prints"}
        {linked ? "" : "; connection lost, reconnecting"}
      </h2>
      {text === undefined ? null : <Output text={text} mark={`a${shown + 1}`} live label={`what attempt ${shown + 1} prints`} />}
    </article>
  );
}

type Pair = { path: string; of: { attempt: number; file: Artifact }[] };

/** Pictures that several attempts left under the same name. */
function byPath(history: Attempt[]): Pair[] {
  const found = new Map<string, Pair>();
  for (const attempt of history) {
    for (const file of attempt.artifacts.filter((f) => f.media_type.startsWith("image/"))) {
      const pair = found.get(file.path) ?? { path: file.path, of: [] };
      pair.of.push({ attempt: attempt.number, file });
      found.set(file.path, pair);
    }
  }
  return [...found.values()].filter((pair) => pair.of.length > 1);
}

/** The pictures of two attempts, one over the other. */
function Compare({ pictures }: { pictures: Pair[] }) {
  const [path, setPath] = useState(pictures[0].path);
  const pair = pictures.find((p) => p.path === path) ?? pictures[0];
  const [left, setLeft] = useState(0);
  const [right, setRight] = useState(pair.of.length - 1);
  const [share, setShare] = useState(50);
  const [difference, setDifference] = useState(false);
  const [a, b] = [pair.of[left] ?? pair.of[0], pair.of[right] ?? pair.of[pair.of.length - 1]];
  const choice = (value: number, set: (n: number) => void, label: string) => (
    <Form.Select size="sm" aria-label={label} value={value} onChange={(e) => set(Number(e.target.value))}>
      {pair.of.map((one, i) => (
        <option key={one.attempt} value={i}>
          attempt {one.attempt}
        </option>
      ))}
    </Form.Select>
  );
  return (
    <section className="compare" aria-label="Pictures of two attempts compared">
      <h2>Pictures compared</h2>
      <div className="compare-choice">
        {pictures.length > 1 ? (
          <Form.Select size="sm" aria-label="Picture" value={path} onChange={(e) => setPath(e.target.value)}>
            {pictures.map((p) => (
              <option key={p.path}>{p.path}</option>
            ))}
          </Form.Select>
        ) : (
          <span className="name">{plain(pair.path)}</span>
        )}
        {choice(left, setLeft, "On the left")}
        {choice(right, setRight, "On the right")}
        <Form.Check type="checkbox" id="difference" label="only what differs" checked={difference} onChange={(e) => setDifference(e.target.checked)} />
      </div>
      <div className={`compare-pictures${difference ? " difference" : ""}`}>
        <img src={`/api/blobs/${a.file.digest}`} alt={`attempt ${a.attempt}: ${plain(pair.path)}`} />
        <img src={`/api/blobs/${b.file.digest}`} alt={`attempt ${b.attempt}: ${plain(pair.path)}`} style={difference ? undefined : { clipPath: `inset(0 0 0 ${share}%)` }} />
      </div>
      {difference ? null : <Form.Range aria-label="How much of each is shown" value={share} onChange={(e) => setShare(Number(e.target.value))} />}
      {a.file.digest === b.file.digest ? <p className="under-figure">They are the same, byte for byte.</p> : null}
    </section>
  );
}
