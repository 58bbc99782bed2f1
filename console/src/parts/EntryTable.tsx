// The entries of a run, tens of thousands of them: only the rows that are seen are asked for and drawn. What is chosen
// stands in the address.

import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { Form } from "react-bootstrap";
import { Link } from "react-router";

import { CHUNK, type Entry, useEntryChunks } from "../data/api";
import { useAsked } from "../data/address";
import type { LiveRun } from "../data/run";
import { Alarm, Empty } from "./Frame";
import { countsOf } from "./RunsTable";
import { State, glyphOf, toneOf } from "./states";
import { Nth, TestName, casesSaid, plain, span } from "./words";

const ROW = 30;

export function EntryTable({ name, live }: { name: string; live: LiveRun }) {
  const { run } = live;
  const { asked, set } = useAsked();
  const [state, order] = [asked.get("state") ?? "", asked.get("order") ?? "trouble"];
  const [typed, setTyped] = useState(asked.get("name") ?? "");
  const wanted = useDeferredValue(typed);
  const inAddress = asked.get("name") ?? "";
  useEffect(() => setTyped(inAddress), [inAddress]);
  useEffect(() => {
    if (wanted !== inAddress) set("name", wanted);
    // The address follows what is typed, once the typing rests.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [wanted]);

  const list = useRef<HTMLDivElement>(null);
  const [total, setTotal] = useState(0);
  const rows = useWindowVirtualizer({ count: total, estimateSize: () => ROW, overscan: 12, scrollMargin: list.current?.offsetTop ?? 0 });
  const seen = rows.getVirtualItems();
  const chunks = [...new Set([0, ...seen.map((row) => Math.floor(row.index / CHUNK))])];
  const answers = useEntryChunks(name, { state, name: wanted, order }, chunks, live.version);
  const found = answers[0]?.data?.total;
  useEffect(() => {
    if (found !== undefined) setTotal(found);
  }, [found]);
  const marks = useRef(new Map<number, [string, number]>());
  // What is asked for anew is shown as it was until the answer comes: rows must not blink.
  const question = `${state} ${wanted} ${order}`;
  const known = useRef<{ question: string; chunks: Map<number, Entry[]> }>({ question, chunks: new Map() });
  if (known.current.question !== question) known.current = { question, chunks: new Map() };
  answers.forEach((answer, i) => answer.data && known.current.chunks.set(chunks[i], answer.data.entries));
  const entryAt = (index: number): Entry | undefined => known.current.chunks.get(Math.floor(index / CHUNK))?.[index % CHUNK];
  const error = answers.find((answer) => answer.error)?.error;
  return (
    <section aria-label="Tests">
      <div className="filters" role="group" aria-label="Filter by state">
        {countsOf(run).map(([of, n]) => (
          <button key={of} type="button" className={`filter ${toneOf(of)}`} aria-pressed={of === state} onClick={() => set("state", of === state ? "" : of)}>
            {glyphOf(of)} {n} {of}
          </button>
        ))}
        <Form.Control size="sm" type="search" placeholder="part of a name" aria-label="Filter by name" value={typed} onChange={(e) => setTyped(e.target.value)} />
      </div>
      <Alarm said={error?.message} />
      {total > 0 ? (
        <div role="table" aria-label="Tests" aria-rowcount={total} className="entry-table">
          <div role="row" className="entry-row entry-head">
            <Head of="trouble" order={order} onOrder={set} text="State" />
            <Head of="listed" order={order} onOrder={set} text="Test" />
            <Head of="attempts" order={order} onOrder={set} text="Attempts" className="number wide-only" />
            <Head of={order === "slowest" ? "fastest" : "slowest"} order={order} onOrder={set} text="Took" className="number" />
            <span role="columnheader" className="wide-only">
              Worker
            </span>
          </div>
          <div ref={list} role="rowgroup" style={{ height: rows.getTotalSize(), position: "relative" }}>
            {seen.map((row) => (
              <Row key={row.index} index={row.index} run={name} entry={entryAt(row.index)} marks={marks.current} top={row.start - rows.options.scrollMargin} back={asked.toString()} />
            ))}
          </div>
        </div>
      ) : (
        <Empty>{nothing(found, state, wanted, run.verdict)}</Empty>
      )}
    </section>
  );
}

function nothing(found: number | undefined, state: string, text: string, verdict: string | null | undefined) {
  if (found === undefined) return "…";
  if (state || text) return "No test is in this state with this name.";
  return verdict ? "This run has no tests." : "The tests are being listed.";
}

interface HeadProps {
  of: string;
  order: string;
  text: string;
  className?: string;
  onOrder: (key: string, value: string) => void;
}

/** A head that orders by its column. */
function Head({ of, order, text, className, onOrder }: HeadProps) {
  const here = order === of || (text === "Took" && (order === "slowest" || order === "fastest"));
  const sort = !here ? "none" : order === "fastest" || order === "listed" ? "ascending" : "descending";
  return (
    <span role="columnheader" aria-sort={sort} className={className}>
      <button type="button" className="sorter" onClick={() => onOrder("order", of === "trouble" ? "" : of)}>
        {text}
        {here ? (order === "fastest" || order === "listed" ? " ↑" : " ↓") : ""}
      </button>
    </span>
  );
}

interface RowProps {
  index: number;
  run: string;
  entry: Entry | undefined;
  /** The state in which each entry was seen last, and when it failed before one's eyes. */
  marks: Map<number, [string, number]>;
  top: number;
  back: string;
}

/** What just failed is marked for so many milliseconds. */
const MARKED = 2000;

function justFailed(entry: Entry, state: string, marks: RowProps["marks"]): boolean {
  const [before, at] = marks.get(entry.index) ?? [state, 0];
  const failed = state === "failed" && before !== "failed" ? Date.now() : at;
  marks.set(entry.index, [state, failed]);
  return Date.now() - failed < MARKED;
}

function Row({ index, run, entry, marks, top, back }: RowProps) {
  if (!entry) return <div role="row" aria-rowindex={index + 1} className="entry-row" style={{ transform: `translateY(${top}px)` }} />;
  const state = entry.outcome ?? (entry.running ? "running" : "waiting");
  const just = justFailed(entry, state, marks) ? " just-failed" : "";
  const message = entry.message && entry.outcome !== "passed" ? plain(entry.message.split("\n")[0]) : "";
  return (
    <div role="row" aria-rowindex={index + 1} className={`entry-row${just}`} style={{ transform: `translateY(${top}px)` }}>
      <span role="cell">
        <State of={state} />
      </span>
      <span role="cell" className="entry-name">
        <Link to={`/runs/${run}/tests/${entry.index}`} state={{ back }} className="plain">
          <TestName name={entry.test} variant={entry.variant} />
          <Nth of={entry} />
        </Link>
        {entry.cases ? <small className="of-cases">{casesSaid(entry.cases)}</small> : null}
        {message ? (
          <bdi className="why" title={message}>
            {message}
          </bdi>
        ) : null}
      </span>
      <span role="cell" className="number wide-only">
        {entry.attempts}
      </span>
      <span role="cell" className="number">
        {span(entry.spent_us)}
      </span>
      <span role="cell" className="wide-only name">
        {entry.worker}
      </span>
    </div>
  );
}
