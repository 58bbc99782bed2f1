// The tests of a suite that fail now.

import { useQuery } from "@tanstack/react-query";
import { Table } from "react-bootstrap";
import { Link } from "react-router";

import { api, told } from "../data/api";
import { Commit } from "./Origin";
import { TestName, When, plain } from "./words";

const useFailing = (suite: string, version: string) =>
  useQuery({ queryKey: ["failing", suite, version], queryFn: ({ signal }) => told(api.GET("/api/suites/{suite}/failing", { params: { path: { suite } }, signal })), placeholderData: (before) => before });

const times = (n: number, one: string) => (n === 1 ? `1 ${one}` : `${n} ${one}s`);

/** How many tests fail now, in words. */
export const failingSaid = (count: number) => (count === 1 ? "1 test fails now" : `${count.toLocaleString("en")} tests fail now`);

/** Tests whose latest outcome that counts is failed; nothing if there are none. `version` says when to look again. */
export function Failing({ suite, version }: { suite: string; version: string }) {
  const found = useFailing(suite, version).data;
  if (!found || found.tests.length === 0) return null;
  const places = new Set(found.tests.map((test) => `${test.branch ?? ""} ${test.pool}`)).size > 1 || found.tests.some((test) => test.branch || test.pool !== "main");
  return (
    <section id="failing">
      <h2 className="tone-failed">◆ {failingSaid(found.total)}</h2>
      <Table size="sm" hover className="dense">
        <thead>
          <tr>
            <th>Test</th>
            <th>Since</th>
            <th>For</th>
            {places ? <th>Where</th> : null}
            <th className="wide-only">Says</th>
          </tr>
        </thead>
        <tbody>
          {found.tests.slice(0, 200).map((test) => (
            <tr key={`${test.branch}/${test.pool}/${test.variant}/${test.test}`}>
              <td>
                <Link to={`/runs/${test.last}/tests/${test.entry}`} className="plain">
                  <TestName name={test.test} variant={test.variant} />
                </Link>
              </td>
              <td>
                <Link to={`/runs/${test.since}`} className="name">
                  {test.since}
                </Link>
                {test.since_at ? (
                  <>
                    , <When at={test.since_at} />
                  </>
                ) : null}
                {test.since_commit ? (
                  <>
                    {" "}
                    at <Commit of={test.since_commit} />
                  </>
                ) : null}
              </td>
              <td className="text-nowrap">
                {times(test.runs, "run")}{test.passes_before === 0 ? "" : `, after ${test.passes_before === 1 ? "1 pass" : `${test.passes_before} passes`}`}
              </td>
              {places ? <td>{[test.branch, test.pool === "main" ? null : `pool ${test.pool}`].filter(Boolean).map((text) => plain(text ?? "")).join(", ")}</td> : null}
              <td className="wide-only why">{plain(test.message.split("\n")[0]).slice(0, 200)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      {found.total > 200 ? <p className="under-figure">The first 200 of {found.total.toLocaleString("en")}.</p> : null}
    </section>
  );
}
