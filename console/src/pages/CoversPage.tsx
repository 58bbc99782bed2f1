import { useQuery } from "@tanstack/react-query";
import { Form, Table } from "react-bootstrap";
import { Link } from "react-router";

import { useAsked } from "../data/address";
import { api, told, useSuites } from "../data/api";
import type { components } from "../generated/api";
import { Empty } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { State, glyphOf, toneOf } from "../parts/states";
import { TestName, When, plain } from "../parts/words";

type Requirement = components["schemas"]["RequirementShown"];

/** Of which tests requirements are told. */
type Which = { suite?: string; branch?: string };
const addressed = (asked: Record<string, string | undefined>) => new URLSearchParams(Object.entries(asked).flatMap(([key, value]) => (value ? [[key, value]] : [])));

/** Requirements, and what their tests showed last. */
export function CoversPage() {
  const { asked, set } = useAsked();
  const which = { suite: asked.get("suite") || undefined, branch: asked.get("branch") || undefined };
  const query = addressed(which);
  const one = asked.get("requirement");
  const suites = useSuites();
  return (
    <>
      <div className="ways" role="group" aria-label="Which tests">
        <Form.Select size="sm" className="kinds" aria-label="Suite" value={asked.get("suite") ?? ""} onChange={(e) => set("suite", e.target.value)}>
          <option value="">all suites</option>
          {suites.data?.map((suite) => (
            <option key={suite.name}>{suite.name}</option>
          ))}
        </Form.Select>
        <Form.Control size="sm" aria-label="Branch" placeholder="any branch" defaultValue={asked.get("branch") ?? ""} onKeyDown={(e) => e.key === "Enter" && set("branch", e.currentTarget.value.trim())} />
        <a className="btn btn-sm btn-outline-primary" href={`/api/covers.csv?${query}`} download="requirements.csv">
          CSV
        </a>
        {one ? (
          <a href={`/covers?${query}`}>all requirements</a>
        ) : null}
      </div>
      {one ? <One requirement={one} which={which} /> : <All which={which} />}
    </>
  );
}

const WORDS = { failed: "failed", "in-part": "in part", "not-run": "not run", passed: "passed" } as const;
/** In part is what was skipped, or not run, and looks so. */
const stateOf = (of: Requirement) => (of.shown === "in-part" ? "skipped" : of.shown);

function All({ which }: { which: Which }) {
  const found = useQuery({ queryKey: ["covers", which], queryFn: ({ signal }) => told(api.GET("/api/covers", { params: { query: which }, signal })), retry: false });
  const to = (requirement: string) => `/covers?${addressed({ ...which, requirement })}`;
  return (
    <DetailPage query={found} what="the requirements">
      {({ total, requirements }) =>
        total === 0 ? (
          <Empty>
            No test covers a requirement. Name them in <code>[covers]</code> of the suite file, in its list, or with <code>covers</code> events.
          </Empty>
        ) : (
          <>
            <h1 className="figure">{total === 1 ? "1 requirement" : `${total.toLocaleString("en")} requirements`}</h1>
            <p className="under-figure">
              {(["failed", "in-part", "not-run", "passed"] as const)
                .map((shown) => ({ shown, count: requirements.filter((r) => r.shown === shown).length }))
                .filter(({ count }) => count > 0)
                .map(({ shown, count }) => `${count} ${WORDS[shown]}`)
                .join(" · ")}
              {total > requirements.length ? `; of the first ${requirements.length.toLocaleString("en")}, and the CSV has all` : ""}
            </p>
            <Table size="sm" hover className="dense">
              <thead>
                <tr>
                  <th>Requirement</th>
                  <th>Its tests</th>
                  <th className="number">Tests</th>
                  <th className="number">Passed</th>
                  <th className="number">Failed</th>
                  <th className="number wide-only">Skipped or parked</th>
                  <th className="number">Never run</th>
                </tr>
              </thead>
              <tbody>
                {requirements.map((r) => (
                  <tr key={r.requirement}>
                    <td>
                      <Link to={to(r.requirement)} className="name">
                        {plain(r.requirement)}
                      </Link>
                    </td>
                    <td>
                      <Shown of={r} />
                    </td>
                    <td className="number">{r.tests}</td>
                    <td className="number">{r.passed + r.flaky || "–"}</td>
                    <td className={`number ${r.failed ? "tone-failed" : ""}`}>{r.failed || "–"}</td>
                    <td className="number wide-only">{r.skipped + r.parked || "–"}</td>
                    <td className="number">{r.never || "–"}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </>
        )
      }
    </DetailPage>
  );
}

function Shown({ of }: { of: Requirement }) {
  const state = stateOf(of);
  return (
    <span className={`state ${toneOf(state)}`}>
      {glyphOf(state)} {WORDS[of.shown]}
    </span>
  );
}

function One({ requirement, which }: { requirement: string; which: Which }) {
  const asked = { ...which, requirement };
  const found = useQuery({ queryKey: ["covers of", asked], queryFn: ({ signal }) => told(api.GET("/api/covers/of", { params: { query: asked }, signal })), retry: false });
  return (
    <DetailPage query={found} what="the tests">
      {({ requirement: of, tests }) => (
        <>
          <h1 className="figure">
            <span className="name">{plain(of.requirement)}</span> <Shown of={of} />
          </h1>
          <Table size="sm" hover className="dense">
            <thead>
              <tr>
                <th>Test</th>
                <th>Suite</th>
                <th>Latest</th>
                <th>Run</th>
                <th className="wide-only">Said by</th>
              </tr>
            </thead>
            <tbody>
              {tests.map((test) => (
                <tr key={`${test.suite} ${test.test} ${test.variant}`}>
                  <td>
                    {test.run != null && test.entry != null ? (
                      <Link to={`/runs/${test.suite}/${test.run}/tests/${test.entry}`} className="plain">
                        <TestName name={test.test} variant={test.variant} />
                      </Link>
                    ) : (
                      <TestName name={test.test} variant={test.variant} />
                    )}
                  </td>
                  <td>
                    <Link to={`/suites/${test.suite}`} className="name">
                      {test.suite}
                    </Link>
                  </td>
                  <td>
                    <State of={test.outcome ?? "not-run"} />
                  </td>
                  <td>
                    {test.run != null ? (
                      <Link to={`/runs/${test.suite}/${test.run}`}>
                        {test.suite}/{test.run}
                      </Link>
                    ) : (
                      "never run"
                    )}
                    {test.at ? <> <When at={test.at} /></> : null}
                  </td>
                  <td className="wide-only">{test.told ? "the test itself" : "the suite"}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
    </DetailPage>
  );
}
