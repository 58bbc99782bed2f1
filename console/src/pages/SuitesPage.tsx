import { Table } from "react-bootstrap";
import { Link } from "react-router";

import { useSuites } from "../data/api";
import { useFloor } from "../data/floor";
import { ListPage } from "../parts/Pages";
import { State, glyphOf, stateOf, toneOf } from "../parts/states";

export function SuitesPage() {
  const suites = useSuites();
  const floor = useFloor();
  return (
    <ListPage
      query={suites}
      what="the suites"
      one="suite"
      none={
        <>
          No suite yet. <Link to="/suites/draft">Write a first suite file</Link>, and add its folder in a terminal: <code>kesmo suite add FOLDER</code>
        </>
      }
    >
      {(all) => (
      <>
      <p className="under-figure">
        Another one? <Link to="/suites/draft">Write a first suite file</Link>, and add its folder in a terminal: <code>kesmo suite add FOLDER</code>. What their tests cover: <Link to="/covers">requirements</Link>.
      </p>
      <Table size="sm" hover className="dense">
        <thead>
          <tr>
            <th>Suite</th>
            <th className="wide-only">About</th>
            <th className="number wide-only">Tests</th>
            <th>Last run</th>
            <th>Now</th>
            <th className="wide-only">Before it</th>
            <th>
              <span className="visually-hidden">Start</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {all.map((suite) => {
            const runs = suite.last_runs.map((run) => floor.runs.get(run.name) ?? run);
            return (
              <tr key={suite.name}>
                <td>
                  <Link to={`/suites/${suite.name}`} className="name">
                    {suite.name}
                  </Link>
                </td>
                <td className="wide-only">{suite.about}</td>
                <td className="number wide-only">{suite.entries ?? "–"}</td>
                <td>
                  {runs[0] ? (
                    <Link to={`/runs/${runs[0].name}`} className="plain">
                      <State of={stateOf(runs[0])} />
                    </Link>
                  ) : (
                    "never run"
                  )}
                </td>
                <td className="text-nowrap">
                  {suite.failing ? (
                    <Link to={`/suites/${suite.name}`} className="plain tone-failed">
                      ◆ {suite.failing} failing
                    </Link>
                  ) : null}
                </td>
                <td className="wide-only counts">
                  {runs.slice(1).map((run) => (
                    <Link key={run.name} to={`/runs/${run.name}`} className={`plain ${toneOf(stateOf(run))}`} title={`${run.name} ${stateOf(run)}`}>
                      {glyphOf(stateOf(run))}
                    </Link>
                  ))}
                </td>
                <td className="number">
                  <Link to={`/start?suite=${suite.name}`}>Start</Link>
                </td>
              </tr>
            );
          })}
        </tbody>
      </Table>
      </>
      )}
    </ListPage>
  );
}
