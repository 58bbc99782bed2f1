import { Form } from "react-bootstrap";
import { Link } from "react-router";

import { useAsked } from "../data/address";
import { useRuns, useSuites } from "../data/api";
import { useFloor } from "../data/floor";
import { Empty, Loading, Trouble } from "../parts/Frame";
import { glyphOf, toneOf } from "../parts/states";
import { RunsTable } from "../parts/RunsTable";

export function RunsPage() {
  const { asked, set } = useAsked();
  const suites = useSuites();
  const [label, suite, verdict] = ["label", "suite", "verdict"].map((key) => asked.get(key) ?? undefined);
  const filtered = Boolean(label || suite || verdict);
  const runs = useRuns({ label, suite, verdict });
  const floor = useFloor();
  if (runs.error && !runs.data) return <Trouble error={runs.error} />;
  if (!runs.data) return <Loading what="the runs" />;
  // What changed since the list was read, and what is new, comes from the live stream.
  const kept = runs.data.map((run) => floor.runs.get(run.name) ?? run);
  const names = new Set(kept.map((run) => run.name));
  const fresh = filtered ? [] : [...floor.runs.values()].filter((run) => !names.has(run.name));
  const all = [...fresh, ...kept].sort((a, b) => b.created_at.localeCompare(a.created_at));
  if (all.length === 0 && !filtered) {
    return (
      <Empty>
        No run yet. <Link to="/start">Start one</Link>, or in a terminal: <code>kesmo start SUITE --wait</code>
      </Empty>
    );
  }
  const active = all.filter((run) => !run.verdict).length;
  return (
    <>
      <h1 className="figure">{active > 0 ? `${active} running` : "Nothing is running"}</h1>
      <div className="filters" role="group" aria-label="Which runs">
        {["failed", "void", "stopped", "passed"].map((of) => (
          <button key={of} type="button" className={`filter ${toneOf(of)}`} aria-pressed={of === verdict} onClick={() => set("verdict", of === verdict ? "" : of)}>
            {glyphOf(of)} {of}
          </button>
        ))}
        <Form.Select size="sm" aria-label="Suite" className="filter-suite" value={suite ?? ""} onChange={(e) => set("suite", e.target.value)}>
          <option value="">all suites</option>
          {suites.data?.map((one) => (
            <option key={one.name}>{one.name}</option>
          ))}
        </Form.Select>
        <Form.Control
          size="sm"
          type="search"
          placeholder="label: release=1187"
          aria-label="Label"
          defaultValue={label}
          onKeyDown={(e) => e.key === "Enter" && set("label", e.currentTarget.value.trim())}
          onBlur={(e) => set("label", e.currentTarget.value.trim())}
        />
        <Link to="/usage">what runs took</Link>
        {label ? <Link to={`/release?label=${encodeURIComponent(label)}`}>all of them as one</Link> : null}
      </div>
      {runs.error ? <Trouble error={runs.error} /> : all.length > 0 ? <RunsTable runs={all} /> : <Empty>No run is like this.</Empty>}
    </>
  );
}
