// The cases that files told of: of a whole run, or of one file. They may be a million, so that they are asked for a page at a
// time, those in trouble first.

import { useDeferredValue, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router";

import { type Case, type CaseTally, useCase, useCases } from "../data/api";
import { Alarm, Empty } from "./Frame";
import { State, glyphOf, toneOf } from "./states";
import { TestName, plain, span } from "./words";

const PAGE = 50;

const STATES = ["failed", "flaky", "passed", "skipped", "parked"] as const;

interface CaseTableProps {
  run: string;
  tally: CaseTally;
  version: number;
  /** Of this file only. */
  entry?: number;
}

export function CaseTable({ run, tally, version, entry }: CaseTableProps) {
  const [state, setState] = useState("");
  const [typed, setTyped] = useState("");
  const [shown, setShown] = useState(PAGE);
  const name = useDeferredValue(typed);
  const found = useCases(run, { entry, state, name, limit: shown }, version);
  const cases = found.data?.cases ?? [];
  const more = (found.data?.total ?? 0) - cases.length;
  const choose = (of: string) => {
    setState(of === state ? "" : of);
    setShown(PAGE);
  };
  return (
    <section aria-label="Cases" className="cases">
      <h2>Cases</h2>
      <div className="filters" role="group" aria-label="Filter cases by state">
        {STATES.filter((of) => (tally[of] ?? 0) > 0).map((of) => (
          <button key={of} type="button" className={`filter ${toneOf(of)}`} aria-pressed={of === state} onClick={() => choose(of)}>
            {glyphOf(of)} {tally[of].toLocaleString("en")} {of}
          </button>
        ))}
        <Form.Control size="sm" type="search" placeholder="part of a title" aria-label="Filter cases by title" value={typed} onChange={(e) => setTyped(e.target.value)} />
      </div>
      <Alarm said={found.error?.message} />
      {cases.length > 0 ? (
        <ul className="case-list">
          {cases.map((one) => (
            <OneCase key={`${one.entry}/${one.title}`} run={run} of={one} alone={entry !== undefined} version={version} />
          ))}
        </ul>
      ) : (
        <Empty>{found.data ? "No case is in this state with this title." : "…"}</Empty>
      )}
      {more > 0 ? (
        <Button size="sm" variant="outline-primary" onClick={() => setShown(Math.min(shown * 4, 1000))} disabled={shown >= 1000 || found.isFetching}>
          {shown >= 1000 ? `${more.toLocaleString("en")} more: narrow them down by title or state` : `Show more of ${more.toLocaleString("en")} others`}
        </Button>
      ) : null}
    </section>
  );
}

/** A case in a line, with what was told of it beneath once it is opened. */
function OneCase({ run, of, alone, version }: { run: string; of: Case; alone: boolean; version: number }) {
  const [open, setOpen] = useState(false);
  const message = of.outcome === "passed" ? "" : plain(of.message.split("\n")[0]);
  return (
    <li>
      <details open={open} onToggle={(e) => setOpen(e.currentTarget.open)}>
        <summary>
          <State of={of.outcome} /> {alone ? null : <span className="under-figure"><TestName name={of.file} variant={of.variant} /> / </span>}
          <span className="case-title">{plain(of.title)}</span> <small>{span(of.spent_us)}</small>
          {of.attempts > 1 ? <small> · attempt {of.attempt} of {of.attempts}</small> : null}
          {message ? (
            <bdi className="why" title={message}>
              {message}
            </bdi>
          ) : null}
        </summary>
        {open ? <Told run={run} of={of} alone={alone} version={version} /> : null}
      </details>
    </li>
  );
}

/** All that the attempts of its file told of a case. */
function Told({ run, of, alone, version }: { run: string; of: Case; alone: boolean; version: number }) {
  const detail = useCase(run, of.entry, of.title, version);
  if (!detail.data) return <p className="under-figure">{detail.error ? plain(detail.error.message) : "…"}</p>;
  return (
    <div className="case-told">
      {detail.data.history.map((attempt) => (
        <div key={attempt.number}>
          Attempt {attempt.number} of its file: <span className={toneOf(attempt.ended)}>{`${glyphOf(attempt.ended)} ${attempt.ended}`}</span> after {span(attempt.spent_us)}
          {attempt.message ? <pre className="message">{plain(attempt.message)}</pre> : null}
          {attempt.detail ? <pre className="output">{plain(attempt.detail)}</pre> : null}
        </div>
      ))}
      <Link to={`/suites/${run.split("/")[0]}?${new URLSearchParams({ test: `${of.file}/${of.title}`, ...(of.variant ? { variant: of.variant } : {}) })}`}>Its history</Link>{" "}
      {alone ? null : <Link to={`/runs/${run}/tests/${of.entry}`}>All of its file</Link>}
    </div>
  );
}
