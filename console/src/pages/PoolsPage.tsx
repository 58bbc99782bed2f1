import { Table } from "react-bootstrap";
import { Link } from "react-router";

import { type PoolOf, usePools } from "../data/pools";
import { ListPage } from "../parts/Pages";
import { plain } from "../parts/words";
import { howSaid } from "./PoolPage";

const inState = (pool: PoolOf, ...states: string[]) => pool.machines.filter((machine) => states.includes(machine.state)).length;

export function PoolsPage() {
  return (
    <ListPage query={usePools()} what="the pools" one="pool" none="There is no pool.">
      {(all) => (
        <>
          <p className="under-figure">
            Where runs find workers: started by hand, or started for them as containers, pods or jobs of a CI server. In a terminal: <code>kesmo pool add NAME --kind engine --image IMAGE</code>
          </p>
          <Table size="sm" hover className="dense">
            <thead>
              <tr>
                <th>Pool</th>
                <th>Kind</th>
                <th className="number">Machines</th>
                <th className="number">Workers</th>
                <th className="number">Slots</th>
                <th>Why so many</th>
              </tr>
            </thead>
            <tbody>
              {all.map((pool) => {
                const coming = inState(pool, "asked", "coming");
                return (
                  <tr key={pool.name}>
                    <td className="text-nowrap">
                      <Link to={`/pools/${pool.name}`} className="name">
                        {pool.name}
                      </Link>
                      {pool.leaving ? <span className="tone-stopped"> ■ being removed</span> : null}
                    </td>
                    <td title={howSaid(pool)}>{pool.pool.how.kind}</td>
                    <td className="number text-nowrap">{pool.pool.how.kind === "fixed" ? "" : `${inState(pool, "up")}${coming > 0 ? ` + ${coming} coming` : ""}`}</td>
                    <td className="number">{pool.workers}</td>
                    <td className="number">{pool.slots}</td>
                    <td>{pool.trouble ? <span className="tone-void">⊘ {plain(pool.trouble)}</span> : plain(pool.why)}</td>
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
