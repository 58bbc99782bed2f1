import { Button, Table } from "react-bootstrap";
import { Link } from "react-router";

import { useMayOperate } from "../data/api";
import { useMoveRun, useQueue, useTakeOut } from "../data/starts";
import { Alarm, Empty, Loading, Trouble } from "../parts/Frame";
import { Origin } from "../parts/Origin";
import { When, plain } from "../parts/words";

export function QueuePage() {
  const queue = useQueue();
  const [move, out] = [useMoveRun(), useTakeOut()];
  const may = useMayOperate();
  if (queue.error) return <Trouble error={queue.error} />;
  if (!queue.data) return <Loading what="the queue" />;
  const all = queue.data;
  if (all.length === 0) {
    return (
      <Empty>
        <h1 className="figure">No run waits</h1>
        What goes on is on the page <Link to="/">Now</Link>.
      </Empty>
    );
  }
  const error = move.error ?? out.error;
  const pools = [...new Set(all.map((run) => run.pool))];
  return (
    <>
      <h1 className="figure">{all.length === 1 ? "1 run waits" : `${all.length} runs wait`}</h1>
      <Alarm said={error?.message} />
      {pools.map((pool) => {
        const runs = all.filter((run) => run.pool === pool);
        return (
          <section key={pool} aria-label={`Pool ${pool}`}>
            <h2>{pool}</h2>
            <Table size="sm" hover className="dense">
              <thead>
                <tr>
                  <th className="number">Place</th>
                  <th>Run</th>
                  <th className="wide-only">Started</th>
                  <th>Waits because</th>
                  <th>
                    <span className="visually-hidden">Do</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {runs.map((run, i) => (
                  <tr key={run.name}>
                    <td className="number">{run.place?.[0]}</td>
                    <td>
                      <Link to={`/runs/${run.name}`} className="name">
                        {run.name}
                      </Link>
                      {run.branch ? <span className="variant name">{plain(run.branch)}</span> : null}
                    </td>
                    <td className="wide-only">
                      <When at={run.created_at} /> <Origin run={run} />
                    </td>
                    <td className="why">{plain(run.waiting_for ?? "")}</td>
                    <td className="number">
                      {may ? (
                        <>
                          <Button size="sm" variant="link" disabled={i === 0 || move.isPending} onClick={() => move.mutate({ run: run.name })} aria-label={`${run.name} first`}>
                            first
                          </Button>
                          <Button size="sm" variant="link" disabled={i === 0 || move.isPending} onClick={() => move.mutate({ run: run.name, before: runs[i - 1]?.name })} aria-label={`${run.name} up`}>
                            ↑
                          </Button>
                          <Button size="sm" variant="link" disabled={i === runs.length - 1 || move.isPending} onClick={() => move.mutate({ run: runs[i + 1]?.name ?? "", before: run.name })} aria-label={`${run.name} down`}>
                            ↓
                          </Button>
                          <Button size="sm" variant="link" disabled={out.isPending} onClick={() => out.mutate(run.name)} aria-label={`Take ${run.name} out`}>
                            take out
                          </Button>
                        </>
                      ) : null}
                    </td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </section>
        );
      })}
    </>
  );
}
