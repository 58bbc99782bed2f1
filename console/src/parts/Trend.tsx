// How a suite's runs went over time: pass rate and duration, with a table behind for those who do not see the plots.

import { Bar, CartesianGrid, Cell, ComposedChart, Line, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

import type { RunSummary } from "../data/api";
import { tookOf, totalOf } from "./RunsTable";
import { glyphOf, stateOf, toneOf } from "./states";
import { When, span } from "./words";

interface Point {
  name: string;
  number: number;
  verdict: string;
  share: number;
  took: number;
  at: string;
}

export default function Trend({ runs }: { runs: RunSummary[] }) {
  const points: Point[] = runs
    .filter((run) => run.verdict && totalOf(run) > 0 && run.began_at)
    .map((run) => {
      const counted = totalOf(run) - run.tally.skipped - run.tally.parked;
      return {
        name: run.name,
        number: run.number,
        verdict: stateOf(run),
        share: counted > 0 ? (100 * (run.tally.passed + run.tally.flaky)) / counted : 0,
        took: (tookOf(run, 0) ?? 0) / 1e6,
        at: run.created_at,
      };
    })
    .reverse();
  if (points.length < 2) return <p className="under-figure">After two runs their trend is shown here.</p>;
  const longest = Math.max(...points.map((p) => p.took));
  const lowest = Math.min(...points.map((p) => p.share));
  const low = Math.max(0, Math.floor((lowest - 0.1) / 10) * 10);
  return (
    <div className="trends">
      <figure>
        <figcaption>Tests that passed, by run (%)</figcaption>
        <div role="img" aria-label={`Share of tests that passed in the last ${points.length} runs, between ${lowest.toFixed(1)}% and ${Math.max(...points.map((p) => p.share)).toFixed(1)}%; the same as a table below`}>
          <ResponsiveContainer width="100%" height={170}>
            <ComposedChart data={points} margin={{ top: 6, right: 8, bottom: 4, left: 0 }} accessibilityLayer={false}>
              <CartesianGrid stroke="var(--line)" vertical={false} />
              <XAxis dataKey="number" stroke="var(--dim)" tick={{ fill: "var(--dim)", fontSize: 12 }} />
              <YAxis domain={[low, 100]} interval={0} ticks={[0, 1, 2, 3, 4, 5].map((n) => low + (n * (100 - low)) / 5)} unit="%" width={48} stroke="var(--dim)" tick={{ fill: "var(--dim)", fontSize: 12 }} />
              <Tooltip content={<Tip />} />
              <Line dataKey="share" stroke="var(--passed)" strokeWidth={2} isAnimationActive={false} dot={{ r: 3, fill: "var(--passed)" }} />
            </ComposedChart>
          </ResponsiveContainer>
        </div>
      </figure>
      <figure>
        <figcaption>Time that each run took (s)</figcaption>
        <div role="img" aria-label={`Duration of the last ${points.length} runs, up to ${span(longest * 1e6)}; the same as a table below`}>
          <ResponsiveContainer width="100%" height={170}>
            <ComposedChart data={points} margin={{ top: 6, right: 8, bottom: 4, left: 0 }} accessibilityLayer={false}>
              <CartesianGrid stroke="var(--line)" vertical={false} />
              <XAxis dataKey="number" stroke="var(--dim)" tick={{ fill: "var(--dim)", fontSize: 12 }} />
              <YAxis width={48} stroke="var(--dim)" tick={{ fill: "var(--dim)", fontSize: 12 }} unit=" s" />
              <Tooltip content={<Tip />} cursor={{ fill: "var(--water)" }} />
              <Bar dataKey="took" isAnimationActive={false}>
                {points.map((p) => (
                  <Cell key={p.name} fill={`var(--${p.verdict})`} />
                ))}
              </Bar>
            </ComposedChart>
          </ResponsiveContainer>
        </div>
      </figure>
      <details>
        <summary>As a table</summary>
        <table className="table table-sm dense">
          <thead>
            <tr>
              <th>Run</th>
              <th>Verdict</th>
              <th className="number">Passed</th>
              <th className="number">Took</th>
              <th>Started</th>
            </tr>
          </thead>
          <tbody>
            {[...points].reverse().map((p) => (
              <tr key={p.name}>
                <td className="name">{p.name}</td>
                <td className={toneOf(p.verdict)}>{`${glyphOf(p.verdict)} ${p.verdict}`}</td>
                <td className="number">{p.share.toFixed(1)}%</td>
                <td className="number">{span(p.took * 1e6)}</td>
                <td>
                  <When at={p.at} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </div>
  );
}

function Tip({ active, payload }: { active?: boolean; payload?: { payload?: Point }[] }) {
  const p = payload?.[0]?.payload;
  if (!active || !p) return null;
  return (
    <div className="hover fixed">
      <span className="name">{p.name}</span>
      <br />
      {glyphOf(p.verdict)} {p.verdict}, {p.share.toFixed(1)}% passed, {span(p.took * 1e6)}
    </div>
  );
}
