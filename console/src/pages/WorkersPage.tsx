import { Table } from "react-bootstrap";
import { Link } from "react-router";

import { Button } from "react-bootstrap";

import { type Worker, useDrain, useMayOperate, useReachable } from "../data/api";
import { useFloor } from "../data/floor";
import { Empty, Loading } from "../parts/Frame";
import { TestName, When, plain, span, useNow } from "../parts/words";

export function WorkersPage() {
  const { workers, seen } = useFloor();
  const now = useNow(true);
  if (!seen) return <Loading what="the workers" />;
  if (workers.length === 0) {
    return (
      <Empty>
        No worker is here. Start one: <code>kesmo worker --slots 4</code>
        <PrivateAddresses />
      </Empty>
    );
  }
  const slots = workers.flatMap((w) => w.slots);
  const busy = slots.filter((s) => s.run || s.doing).length;
  const pools = [...new Set(workers.map((w) => w.pool))].map((pool) => {
    const own = workers.filter((w) => w.pool === pool && !w.only_run);
    const of = own.flatMap((w) => w.slots);
    return { pool, workers: own.length, slots: of.length, busy: of.filter((s) => s.run || s.doing).length, draining: own.filter((w) => w.draining).length };
  });
  return (
    <>
      <h1 className="figure">
        {busy} of {slots.length} slots busy
      </h1>
      <p className="under-figure">
        {pools.map((p) => `pool ${p.pool}: ${p.workers} ${p.workers === 1 ? "worker" : "workers"}, ${p.busy} of ${p.slots} slots busy${p.draining > 0 ? `, ${p.draining} drained` : ""}`).join("; ")}
      </p>
      {workers.map((worker) => (
        <section key={worker.name} className="worker">
          <h2>
            <span className="name">{worker.name}</span>{" "}
            <small>
              {worker.only_run ? <>lent to {worker.only_run}</> : <>pool {worker.pool}</>}
              {Object.entries(worker.offers).map(([k, v]) => (
                <span key={k} className="tag name">{`${k}=${v}`}</span>
              ))}
              {" "}here since <When at={worker.since} />
              {worker.draining ? <span className="tone-stopped"> ■ drained: it takes nothing new</span> : null}
              {worker.connected ? null : <span className="tone-failed"> ↯ away: its work goes elsewhere if it does not come back</span>}
            </small>
            <DrainButton worker={worker} />
          </h2>
          {worker.overloaded ? (
            <p className="tone-flaky">
              ◐ {worker.overloaded}
              {worker.fills < worker.slots.length ? `; it fills ${worker.fills} now` : ""}
            </p>
          ) : null}
          <Table size="sm" className="dense">
            <tbody>
              {worker.slots.map((slot) => (
                <tr key={slot.number}>
                  <td className="slot-number number">{slot.number}</td>
                  <td>{slot.doing ? <TestName name={slot.doing} variant={slot.variant} /> : <span className="tone-not-run">{slot.run ? "starting" : "idle"}</span>}</td>
                  <td>{slot.run ? <Link to={`/runs/${slot.run}`} className="name">{slot.run}</Link> : null}</td>
                  <td className="number wide-only">{slot.since ? <Since slot={slot} now={now} /> : ""}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      ))}
      <PrivateAddresses />
    </>
  );
}

/** Addresses in private networks that machines offer to runs. */
function PrivateAddresses() {
  const offered = useReachable().data ?? [];
  if (offered.length === 0) return null;
  return (
    <section className="worker">
      <h2>Private addresses</h2>
      <Table size="sm" className="dense">
        <thead>
          <tr>
            <th>Name</th>
            <th>Leads to</th>
            <th>Pool</th>
            <th>Offered</th>
            <th className="number">Open connections</th>
          </tr>
        </thead>
        <tbody>
          {offered.map((one) => (
            <tr key={`${one.pool}/${one.name}`}>
              <td>⇄ <span className="name">{one.name}</span></td>
              <td className="name">{plain(one.to)} on {plain(one.host)}</td>
              <td>{one.pool}</td>
              <td>by {one.by} since <When at={one.since} /></td>
              <td className="number">{one.open}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </section>
  );
}

/** For how long a test runs, and whether that is long for it. */
function Since({ slot, now }: { slot: Worker["slots"][number]; now: number }) {
  const since = Math.max(0, now - Date.parse(slot.since ?? "")) * 1000;
  const late = slot.late_after_us != null && since > slot.late_after_us;
  return (
    <span className={late ? "tone-flaky" : undefined} title={late ? `It usually takes ${span(slot.expected_us)}` : undefined}>
      {late ? "◔ " : ""}
      {span(since)}
    </span>
  );
}

function DrainButton({ worker }: { worker: Worker }) {
  const may = useMayOperate();
  const drain = useDrain();
  if (!may || worker.only_run) return null;
  return (
    <>
      {" "}
      <Button size="sm" variant="link" disabled={drain.isPending} onClick={() => drain.mutate({ worker: worker.name, drain: !worker.draining })} title={worker.draining ? "It takes work again" : "It finishes what it has and takes nothing new"} aria-label={`${worker.draining ? "Take back" : "Drain"} ${worker.name}`}>
        {worker.draining ? "Take back" : "Drain"}
      </Button>
      {drain.error ? (
        <small role="alert" className="tone-failed">
          ◆ {drain.error.message}
        </small>
      ) : null}
    </>
  );
}
