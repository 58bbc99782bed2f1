import { Button, Table } from "react-bootstrap";
import { Link, useNavigate } from "react-router";

import { useMayOperate, useStart } from "../data/api";
import { useBriefs } from "../data/starts";
import { Alarm } from "../parts/Frame";
import { ListPage } from "../parts/Pages";
import { State, stateOf } from "../parts/states";

export function BriefsPage() {
  const briefs = useBriefs();
  const start = useStart();
  const navigate = useNavigate();
  const may = useMayOperate();
  return (
    <ListPage
      query={briefs}
      what="the briefs"
      one="brief"
      none={
        <>
          <h1 className="figure">No brief yet</h1>
          A brief is the saved settings of a run. In a terminal: <code>kesmo brief add NAME --suite SUITE</code>
        </>
      }
      before={
        may ? (
          <p>
            <Link to="/briefs/new" className="btn btn-sm btn-outline-primary">
              Make a brief
            </Link>
          </p>
        ) : null
      }
    >
      {(all) => (
    <>
      <Alarm said={start.error?.message} />
      <Table size="sm" hover className="dense">
        <thead>
          <tr>
            <th>Brief</th>
            <th>Suite</th>
            <th>Last run</th>
            <th className="wide-only">Started by</th>
            <th className="wide-only">Then</th>
            <th>
              <span className="visually-hidden">Do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {all.map((b) => (
            <tr key={b.name}>
              <td>
                <Link to={`/briefs/${b.name}`} className="name">
                  {b.name}
                </Link>
              </td>
              <td>
                <Link to={`/suites/${b.brief.suite}`} className="name plain">
                  {b.brief.suite}
                </Link>
                {b.brief.branch ? <span className="variant name"> {b.brief.branch}</span> : null}
              </td>
              <td>
                {b.last_run ? (
                  <Link to={`/runs/${b.last_run.name}`} className="plain">
                    <State of={stateOf(b.last_run)} /> <span className="name">{b.last_run.name}</span>
                  </Link>
                ) : (
                  "never run"
                )}
              </td>
              <td className="wide-only">{b.used_by.join(", ")}</td>
              <td className="wide-only">
                {b.brief.then ? (
                  <>
                    <Link to={`/briefs/${b.brief.then}`} className="name">
                      {b.brief.then}
                    </Link>{" "}
                    <small className="dim">{b.brief.then_if === "any" ? "whatever its verdict" : `if ${b.brief.then_if}`}</small>
                  </>
                ) : null}
              </td>
              <td className="number">
                {may ? (
                  <>
                    <Button size="sm" variant="link" disabled={start.isPending} onClick={() => start.mutate({ brief: b.name, options: {} }, { onSuccess: (run) => void navigate(`/runs/${run.name}`) })} aria-label={`Start ${b.name}`}>
                      Start
                    </Button>
                    <Link to={`/briefs/new?copy=${b.name}`} aria-label={`Copy ${b.name}`}>
                      Copy
                    </Link>
                  </>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
      )}
    </ListPage>
  );
}
