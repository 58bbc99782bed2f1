import { Table } from "react-bootstrap";
import { Link } from "react-router";

import { useFloor } from "../data/floor";
import { Empty } from "../parts/Frame";
import { TestName, span, useNow } from "../parts/words";

export function WorkersPage() {
  const { workers } = useFloor();
  const now = useNow(true);
  if (workers.length === 0) {
    return (
      <Empty>
        No worker is here. Start one: <code>kesmo worker --slots 4</code>
      </Empty>
    );
  }
  const slots = workers.flatMap((w) => w.slots);
  const busy = slots.filter((s) => s.run || s.doing).length;
  return (
    <>
      <h1 className="figure">
        {busy} of {slots.length} slots busy
      </h1>
      {workers.map((worker) => (
        <section key={worker.name} className="worker">
          <h2>
            <span className="name">{worker.name}</span>{" "}
            <small>
              {worker.only_run ? <>lent to {worker.only_run}</> : <>pool {worker.pool}</>}
              {Object.entries(worker.offers).map(([k, v]) => (
                <span key={k} className="tag name">{`${k}=${v}`}</span>
              ))}
              {worker.connected ? null : <span className="tone-failed"> ↯ away: its work goes elsewhere if it does not come back</span>}
            </small>
          </h2>
          {worker.crowded ? (
            <p className="tone-flaky">
              ◐ {worker.crowded}
              {worker.fills < worker.slots.length ? `; it fills ${worker.fills} now` : ""}
            </p>
          ) : null}
          <Table size="sm" className="dense">
            <tbody>
              {worker.slots.map((slot) => (
                <tr key={slot.number}>
                  <td className="slot-number number">{slot.number}</td>
                  <td>{slot.doing ? <TestName name={slot.doing} variant={slot.variant} /> : <span className="tone-unrun">{slot.run ? "starting" : "idle"}</span>}</td>
                  <td>{slot.run ? <Link to={`/runs/${slot.run}`} className="name">{slot.run}</Link> : null}</td>
                  <td className="number wide-only">{slot.since ? span(Math.max(0, now - Date.parse(slot.since)) * 1000) : ""}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      ))}
    </>
  );
}
