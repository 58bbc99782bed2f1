import { Button } from "react-bootstrap";
import { Link, useNavigate, useParams } from "react-router";

import { type PoolOf, useMayKeep, usePool, useRemovePool } from "../data/pools";
import { Copy } from "../parts/Copy";
import { Alarm } from "../parts/Frame";
import { MachineTable, counted } from "../parts/Machines";
import { DetailPage } from "../parts/Pages";
import { Facts, When, plain, size, span } from "../parts/words";

/** What a pool's machines are, in words. */
export function howSaid({ pool }: PoolOf): string {
  switch (pool.how.kind) {
    case "fixed":
      return "workers that are started by hand";
    case "engine":
      return `containers of ${pool.how.image}`;
    case "cluster":
      return `pods of ${pool.how.image}`;
    case "ci":
      return "jobs of a CI server";
  }
}

export function PoolPage() {
  const { pool: name = "" } = useParams();
  return (
    <DetailPage query={usePool(name)} what={`the pool ${name}`}>
      {(one) => <OnePool of={one} />}
    </DetailPage>
  );
}

function OnePool({ of }: { of: PoolOf }) {
  const { pool } = of;
  const how = pool.how;
  const starts = how.kind !== "fixed";
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure name">{of.name}</h1>
        <p className="under-figure">
          {starts ? `${(pool.least ?? 0) > 0 ? `${pool.least} to ${pool.most}` : `Up to ${pool.most}`} ${howSaid(of)}, ${counted(pool.slots ?? 0, "slot")} each, which go after ${span(pool.idle)} without work.` : "Its workers are started by hand."}{" "}
          {of.leaving ? <span className="tone-stopped">■ It is being removed: its machines take nothing new, and it goes with the last of them.</span> : null}
        </p>
        {of.trouble ? (
          <p className="tone-void" role="status">
            ⊘ {plain(of.trouble)}
          </p>
        ) : null}
        {starts ? <h2>Machines</h2> : null}
        {starts && of.machines.length === 0 ? <p className="under-figure">None was started yet.</p> : null}
        {of.machines.length > 0 ? <MachineTable machines={of.machines} /> : null}
        {of.job ? (
          <>
            <h2>What its jobs carry out</h2>
            <p className="under-figure">One command, with KESMO_URL and KESMO_TOKEN as the request that starts a job hands them over.</p>
            <pre className="command" tabIndex={0} aria-label="What its jobs carry out">
              {of.job}
            </pre>
            <Copy text={of.job} />
          </>
        ) : null}
      </section>
      <aside>
        <Remove of={of} />
        <Facts
          rows={[
            ["Kind", how.kind],
            ["Wanted", starts ? plain(of.why) : null],
            ["A start", of.start_us ? `takes ${span(of.start_us)}` : null],
            ["Here", `${counted(of.workers, "worker")}, ${counted(of.slots, "slot")}`],
            ["Offers", Object.entries(pool.offers ?? {}).map(([k, v]) => <span key={k} className="tag name">{`${k}=${v}`}</span>)],
            ["Image", how.kind === "engine" || how.kind === "cluster" ? <span key="image" className="name">{how.image}</span> : null],
            ["Engine", how.kind === "engine" ? <span key="engine" className="name">{how.address ?? "the first that answers"}</span> : null],
            ["Network", how.kind === "engine" ? how.network : null],
            ["Memory", how.kind === "engine" && how.memory ? size(how.memory) : null],
            ["Processors", how.kind === "engine" && how.cpus ? how.cpus / 1000 : null],
            ["Cluster", how.kind === "cluster" ? <span key="cluster" className="name">{how.address ?? "the service's own"}</span> : null],
            ["Namespace", how.kind === "cluster" ? how.namespace : null],
            ["Account", how.kind === "cluster" ? how.service_account : null],
            ["CI server", how.kind === "ci" ? <span key="ci" className="name">{how.start.address}</span> : null],
            ["Secret", of.has_secret ? "kept, and never shown" : null],
            ["Machines reach", pool.url ? <span key="url" className="name">{pool.url}</span> : null],
            ["Made", of.made_at ? <span key="made"><When at={of.made_at} /> by {of.made_by}</span> : null],
            ["Workers", <Link key="workers" to="/workers">what they do</Link>],
          ]}
        />
      </aside>
    </div>
  );
}

function Remove({ of }: { of: PoolOf }) {
  const may = useMayKeep();
  const remove = useRemovePool();
  const navigate = useNavigate();
  if (!may || of.implied || of.leaving) return null;
  const open = of.machines.filter((machine) => !["ended", "failed"].includes(machine.state)).length;
  return (
    <div className="actions">
      <Button size="sm" variant="outline-danger" disabled={remove.isPending} title={open > 0 ? `${counted(open, "machine")} finish what they have first` : undefined} onClick={() => remove.mutate(of.name, { onSuccess: () => void (open === 0 && navigate("/pools")) })}>
        Remove
      </Button>
      <Alarm said={remove.error?.message} />
    </div>
  );
}
