import { Button } from "react-bootstrap";
import { Link, useNavigate, useParams } from "react-router";

import { useSuite } from "../data/api";
import { useFloor } from "../data/floor";
import { ForecastPlot } from "../parts/ForecastPlot";
import { Empty, Trouble } from "../parts/Frame";
import { Parks } from "../parts/Parks";
import { RunsTable } from "../parts/RunsTable";
import { Facts, moment } from "../parts/words";

export function SuitePage() {
  const { suite: name = "" } = useParams();
  const suite = useSuite(name);
  const floor = useFloor();
  const navigate = useNavigate();
  if (suite.error) return <Trouble error={suite.error} />;
  if (!suite.data) return <Empty>…</Empty>;
  const s = suite.data;
  const runs = s.last_runs.map((run) => floor.runs.get(run.name) ?? run);
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure name">{s.name}</h1>
        <p>{s.about}</p>
        <p>
          <Button onClick={() => void navigate(`/start?suite=${s.name}`)}>Start a run</Button>
        </p>
        {runs.length > 0 ? (
          <>
            <RunsTable runs={runs} />
            <h2>By number of shards</h2>
            <ForecastPlot suite={s.name} />
          </>
        ) : (
          <Empty>
            It has not run yet. Start it here, or in a terminal: <code>kesmo start {s.name} --stay</code>
          </Empty>
        )}
        <Parks suite={s.name} parks={s.parks} />
      </section>
      <aside>
        <Facts
          rows={[
            ["Tests", s.entries ?? "not listed yet"],
            ["Retries", s.retries],
            ["Facets", s.facets.map((f) => <div key={f.name}>{`${f.name}: ${f.values.join(", ")}`}</div>)],
            ["Needs", Object.entries(s.needs).map(([k, v]) => `${k}=${v}`).join(", ")],
            ["Settings", Object.entries(s.settings).map(([k, v]) => `${k} = ${v}`).join(", ")],
            ["Environments", s.environments.join(", ")],
            ["Bundle", <code key="bundle">{s.bundle.slice(0, 12)}</code>],
            ["Added", moment(s.added_at)],
          ]}
        />
        <details>
          <summary>kesmo.toml</summary>
          <pre className="output">{s.file}</pre>
        </details>
        <p>
          <Link to={`/start?suite=${s.name}`}>Start with options</Link>
        </p>
      </aside>
    </div>
  );
}
