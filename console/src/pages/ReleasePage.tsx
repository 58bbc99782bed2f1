import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { Link, useSearchParams } from "react-router";

import { api, told } from "../data/api";
import type { components } from "../generated/api";
import { Empty } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { glyphOf, toneOf } from "../parts/states";
import { TestName, plain } from "../parts/words";

type Release = components["schemas"]["Release"];
type ReleaseSuite = components["schemas"]["ReleaseSuite"];
type ReleaseTest = components["schemas"]["ReleaseTest"];

/** All runs with a label as one: suites by variant, what still fails, what was never run. */
export function ReleasePage() {
  const [asked, ask] = useSearchParams();
  const label = asked.get("label") ?? "";
  const release = useQuery({ queryKey: ["release", label], queryFn: ({ signal }) => told(api.GET("/api/release", { params: { query: { label } }, signal })), enabled: label !== "", retry: false });
  return (
    <>
      <Ask label={label} onLabel={(label) => ask({ label })} />
      {label === "" ? (
        <Empty>Give a label that runs have: release=1187</Empty>
      ) : (
        <DetailPage query={release} what="the runs">
          {(found) => <One found={found} />}
        </DetailPage>
      )}
    </>
  );
}

function Ask({ label, onLabel }: { label: string; onLabel: (label: string) => void }) {
  const [text, setText] = useState(label);
  const send = (event: FormEvent) => {
    event.preventDefault();
    if (text.trim()) onLabel(text.trim());
  };
  return (
    <Form className="ways" onSubmit={send}>
      <Form.Control size="sm" aria-label="Label" placeholder="release=1187" value={text} onChange={(e) => setText(e.target.value)} />
      <Button size="sm" type="submit" variant="outline-primary" disabled={!text.trim()}>
        Show
      </Button>
    </Form>
  );
}

const stateOf = (verdict: string | null | undefined) => verdict ?? "running";

function One({ found }: { found: Release }) {
  const state = stateOf(found.verdict);
  return (
    <>
      <h1 className={`figure ${toneOf(state)}`}>
        {glyphOf(state)} {state} <small className="name">{plain(found.label)}</small>
      </h1>
      <Table size="sm" hover className="dense">
        <thead>
          <tr>
            <th>Suite</th>
            <th>State</th>
            <th className="number">Passed</th>
            <th className="number">Flaky</th>
            <th className="number">Failed</th>
            <th className="number">Skipped</th>
            <th className="number">Never run</th>
            <th>Runs</th>
          </tr>
        </thead>
        <tbody>
          {found.suites.map((suite) => (
            <Rows key={suite.suite} suite={suite} />
          ))}
        </tbody>
      </Table>
      {found.suites.map((suite) => (
        <Tests key={suite.suite} head={`Still failing in ${suite.suite}`} tests={suite.failing} total={suite.failing_total} tone="tone-failed" />
      ))}
      {found.suites.map((suite) => (
        <Tests key={suite.suite} head={`Never run of ${suite.suite}`} tests={suite.never_run} total={suite.never_run_total} tone="tone-void" />
      ))}
      {found.without.length > 0 ? (
        <>
          <h2>No run of it</h2>
          <p>
            {found.without.map((name, i) => (
              <span key={name}>
                {i > 0 ? ", " : ""}
                <Link to={`/suites/${name}`} className="name">
                  {name}
                </Link>
              </span>
            ))}
          </p>
        </>
      ) : null}
    </>
  );
}

function Rows({ suite }: { suite: ReleaseSuite }) {
  const sum = (of: "passed" | "flaky" | "failed" | "skipped") => suite.variants.reduce((all, one) => all + one[of], 0);
  const several = suite.variants.length > 1;
  const state = stateOf(suite.verdict);
  const count = (n: number, tone: string) => (
    <td className="number">
      <span className={n > 0 ? tone : undefined}>{n > 0 ? n.toLocaleString("en") : "–"}</span>
    </td>
  );
  return (
    <>
      <tr>
        <td>
          <Link to={`/suites/${suite.suite}`} className="name">
            {suite.suite}
          </Link>
        </td>
        <td>
          <span className={toneOf(state)}>
            {glyphOf(state)} {state}
          </span>
          {suite.reason ? <div className="why">{plain(suite.reason)}</div> : null}
        </td>
        {count(sum("passed"), "tone-passed")}
        {count(sum("flaky"), "tone-flaky")}
        {count(sum("failed"), "tone-failed")}
        {count(sum("skipped"), "")}
        {count(suite.never_run_total, "tone-void")}
        <td>
          {suite.runs.slice(0, 8).map((run) => (
            <span key={run.name}>
              <Link to={`/runs/${run.name}`} className="plain">
                <span className={toneOf(stateOf(run.verdict))}>{glyphOf(stateOf(run.verdict))}</span> {run.number}
              </Link>{" "}
            </span>
          ))}
          {suite.runs.length > 8 ? `and ${suite.runs.length - 8} more` : null}
        </td>
      </tr>
      {several
        ? suite.variants.map((one) => (
            <tr key={one.variant}>
              <td className="name">&ensp;{plain(one.variant)}</td>
              <td />
              {count(one.passed, "tone-passed")}
              {count(one.flaky, "tone-flaky")}
              {count(one.failed, "tone-failed")}
              {count(one.skipped, "")}
              {count(one.never_run, "tone-void")}
              <td />
            </tr>
          ))
        : null}
    </>
  );
}

function Tests({ head, tests, total, tone }: { head: string; tests: ReleaseTest[]; total: number; tone: string }) {
  if (tests.length === 0) return null;
  return (
    <section aria-label={head}>
      <h2 className={tone}>
        {head} <small>{total.toLocaleString("en")}</small>
      </h2>
      <ul className="plain-list">
        {tests.slice(0, 50).map((test) => (
          <li key={`${test.test}/${test.variant}`}>
            {test.run ? (
              <Link to={`/runs/${test.run}/tests/${test.entry}`} className="plain">
                <TestName name={test.test} variant={test.variant} />
              </Link>
            ) : (
              <TestName name={test.test} variant={test.variant} />
            )}{" "}
            <small>{test.run}</small>
            {test.message ? <div className="why">{plain(test.message.split("\n")[0]).slice(0, 200)}</div> : null}
          </li>
        ))}
      </ul>
      {total > 50 ? <p className="under-figure">and {(total - 50).toLocaleString("en")} more</p> : null}
    </section>
  );
}
