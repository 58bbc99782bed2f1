// An entry of a run; opened, it shows its attempts with what they said, printed and left behind.

import { useState } from "react";

import { type Attempt, type Entry, useEntry, useLog } from "../data/api";
import { State, glyphOf, toneOf } from "./states";
import { TestName, moment, size, span } from "./words";

interface Props {
  run: string;
  entry: Entry;
  version: number;
  open: boolean;
  onOpen: () => void;
}

export function EntryRow({ run, entry, version, open, onOpen }: Props) {
  const state = entry.outcome ?? (entry.running ? "running" : "waiting");
  const bad = entry.outcome === "failed" || entry.outcome === "flaky";
  return (
    <>
      <tr className={open ? "open" : undefined}>
        <td>
          <State of={state} />
        </td>
        <td>
          <button type="button" className="opener" aria-expanded={open} onClick={onOpen}>
            <TestName name={entry.test} variant={entry.variant} />
            {entry.repeat > 0 ? <small className="repeat"> #{entry.repeat}</small> : null}
          </button>
          {entry.message && (bad || !entry.outcome || entry.outcome === "skipped") ? <div className="why">{entry.message.split("\n")[0]}</div> : null}
        </td>
        <td className="number wide-only">{entry.attempts}</td>
        <td className="number">{span(entry.spent_us)}</td>
        <td className="wide-only name">{entry.worker}</td>
      </tr>
      {open ? (
        <tr className="opened">
          <td colSpan={5}>
            <Attempts run={run} index={entry.index} version={version} />
          </td>
        </tr>
      ) : null}
    </>
  );
}

function Attempts({ run, index, version }: { run: string; index: number; version: number }) {
  const detail = useEntry(run, index, version);
  if (detail.error) return <p role="alert">{detail.error.message}</p>;
  if (!detail.data) return <p>…</p>;
  const d = detail.data;
  return (
    <div className="attempts">
      <p className="under-figure">
        {d.retries_said}
        {d.claims.length > 0 ? `; claims ${d.claims.join(", ")}` : ""}
        {d.group ? "; runs with its group" : ""}
        {d.parked ? <span className="tone-parked">; ▭ {d.parked}</span> : null}
      </p>
      {d.history.length === 0 ? <p>It has no attempt yet.</p> : null}
      {d.history.map((attempt) => (
        <OneAttempt key={attempt.number} run={run} index={index} attempt={attempt} last={attempt.number === d.history.length} />
      ))}
    </div>
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
        number {around.place} in shard {around.shard}; before it in its process: <span className="name">{before}</span>
      </dd>
      {around.on_worker.length > 0 ? (
        <>
          <dt>On its worker</dt>
          <dd>
            before it: <span className="name">{around.on_worker.slice(-3).join(", ")}</span>
          </dd>
        </>
      ) : null}
      {attempt.of_slots > 0 ? (
        <>
          <dt>Crowd</dt>
          <dd>
            {attempt.busy} of {attempt.of_slots} slots busy
            {around.beside.length > 0 ? <>, beside it <span className="name">{around.beside.slice(0, 3).join(", ")}</span></> : null}
            {usual ? `; ${usual.toFixed(1)} times its usual time` : ""}
          </dd>
        </>
      ) : null}
    </dl>
  );
}

function OneAttempt({ run, index, attempt, last }: { run: string; index: number; attempt: Attempt; last: boolean }) {
  const [shown, setShown] = useState(last && attempt.log_bytes > 0 && attempt.log_bytes < 20_000);
  const log = useLog(run, index, attempt.number, shown);
  const pictures = attempt.artifacts.filter((file) => file.media_type.startsWith("image/"));
  const others = attempt.artifacts.filter((file) => !file.media_type.startsWith("image/"));
  return (
    <article className="attempt">
      <h3>
        Attempt {attempt.number}: <span className={toneOf(attempt.ended)}>{`${glyphOf(attempt.ended)} ${attempt.ended}`}</span> after {span(attempt.spent_us)}{" "}
        <small>
          on <span className="name">{attempt.worker}</span> slot {attempt.slot}, batch {attempt.batch}, {moment(attempt.began_at)}
        </small>
      </h3>
      {attempt.message ? <pre className="message">{attempt.message}</pre> : null}
      {attempt.around ? <Around attempt={attempt} /> : null}
      {attempt.steps.length > 0 ? (
        <ol className="steps">
          {attempt.steps.map((step, i) => (
            <li key={`${i}-${step.name}`}>
              <span className={step.ok ? "tone-passed" : "tone-failed"}>{step.ok ? "●" : "◆"}</span> {step.name}
              {step.ms === null || step.ms === undefined ? null : <small> {span(step.ms * 1000)}</small>}
            </li>
          ))}
        </ol>
      ) : null}
      {attempt.detail ? <pre className="output">{attempt.detail}</pre> : null}
      {attempt.log_bytes > 0 ? (
        <details open={shown} onToggle={(e) => setShown(e.currentTarget.open)}>
          <summary>Printed {size(attempt.log_bytes)}</summary>
          <pre className="output">{log.data ?? (log.error ? log.error.message : "…")}</pre>
        </details>
      ) : null}
      {pictures.length > 0 ? (
        <div className="pictures">
          {pictures.map((file) => (
            <a key={file.digest + file.path} href={`/api/blobs/${file.digest}`} target="_blank" rel="noreferrer">
              <img src={`/api/blobs/${file.digest}`} alt={file.about || file.path} loading="lazy" />
              <small>
                {file.about || file.path} ({size(file.bytes)})
              </small>
            </a>
          ))}
        </div>
      ) : null}
      {others.length > 0 ? (
        <ul className="files">
          {others.map((file) => (
            <li key={file.digest + file.path}>
              <a href={`/api/blobs/${file.digest}`}>{file.path}</a> ({size(file.bytes)}) {file.about}
            </li>
          ))}
        </ul>
      ) : null}
    </article>
  );
}
