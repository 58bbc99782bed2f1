// Numbers of a run as it goes, and the same by groups of names.

import type { Part, Run } from "../data/api";
import { useParts } from "../data/api";
import { Counts, doneOf, totalOf } from "./RunsTable";
import { plain, rate, span } from "./words";

export function Figures({ run, took }: { run: Run; took: number | null }) {
  const s = run.stats;
  if (s.ended === 0) return null;
  const mean = took && took > 0 ? doneOf(run) / (took / 1e6) : 0;
  const rows: [string, string][] = [
    ["tests a second", run.verdict ? rate(mean) : `${rate(mean)}, now ${rate(run.rate ?? 0)}`],
    ["failed attempts", `${((s.failing * 100) / s.ended).toFixed(1)}%`],
    ["mean", span(s.total_us / s.ended)],
    ["median", span(s.median_us)],
    ["95% under", span(s.p95_us)],
    ["shortest", span(s.shortest_us)],
    ["longest", span(s.longest_us)],
  ];
  return (
    <dl className="numbers" aria-label="Numbers">
      {rows.map(([head, value]) => (
        <div key={head}>
          <dt>{head}</dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** Groups of names, where there are several; those with failures come first. */
export function Parts({ run, version, onName }: { run: string; version: number; onName: (name: string) => void }) {
  const parts = useParts(run, version);
  const shown = parts.data ?? [];
  if (shown.length < 2) return null;
  return (
    <details className="parts" open={shown.length <= 12}>
      <summary>
        <h2>By group of names</h2> {shown.length} groups
      </summary>
      <table className="table table-sm dense">
        <thead>
          <tr>
            <th>Group</th>
            <th>Tests</th>
            <th className="number">Done</th>
            <th className="number wide-only">Failing</th>
            <th className="number wide-only">Mean</th>
            <th className="number wide-only">Median</th>
            <th className="number wide-only">95% under</th>
            <th className="number">Longest</th>
          </tr>
        </thead>
        <tbody>
          {shown.slice(0, 40).map((part) => (
            <PartRow key={part.name} part={part} onName={onName} />
          ))}
        </tbody>
      </table>
    </details>
  );
}

function PartRow({ part, onName }: { part: Part; onName: (name: string) => void }) {
  const s = part.stats;
  return (
    <tr>
      <td>
        <button type="button" className="opener name" onClick={() => onName(part.name ? `${part.name}/` : "")}>
          {part.name ? plain(part.name) : "(no group)"}
        </button>
      </td>
      <td>
        <Counts run={part} />
      </td>
      <td className="number">
        {doneOf(part)} of {totalOf(part)}
      </td>
      <td className="number wide-only">{s.ended > 0 ? `${((s.failing * 100) / s.ended).toFixed(1)}%` : "–"}</td>
      <td className="number wide-only">{s.ended > 0 ? span(s.total_us / s.ended) : "–"}</td>
      <td className="number wide-only">{s.ended > 0 ? span(s.median_us) : "–"}</td>
      <td className="number wide-only">{s.ended > 0 ? span(s.p95_us) : "–"}</td>
      <td className="number">{s.ended > 0 ? span(s.longest_us) : "–"}</td>
    </tr>
  );
}
