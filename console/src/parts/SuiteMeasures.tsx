// What a suite measured over its runs.

import { Link } from "react-router";

import { type MeasureOfSuite, useMeasuresOfSuite } from "../data/measures";
import { State } from "./states";
import { When, figure, plain } from "./words";

const WIDTH = 220;
const HEIGHT = 36;

export function SuiteMeasures({ suite }: { suite: string }) {
  const all = useMeasuresOfSuite(suite).data ?? [];
  if (all.length === 0) return null;
  return (
    <>
      <h2>Measured</h2>
      <p className="under-figure">Over the last {all[0].runs.length === 1 ? "run" : `${all[0].runs.length} runs`} of {all[0].choice}, oldest on the left.</p>
      <ul className="measured" aria-label="Measured over the runs">
        {all.map((measure) => (
          <OneMeasure key={measure.name} of={measure} />
        ))}
      </ul>
    </>
  );
}

function OneMeasure({ of }: { of: MeasureOfSuite }) {
  const last = of.runs[of.runs.length - 1];
  const highest = Math.max(...of.runs.map((run) => run.p95), Number.MIN_VALUE);
  const x = (place: number) => (of.runs.length === 1 ? WIDTH / 2 : 3 + (place * (WIDTH - 6)) / (of.runs.length - 1));
  const y = (value: number) => HEIGHT - 3 - (value / highest) * (HEIGHT - 6);
  const line = (value: (run: MeasureOfSuite["runs"][number]) => number) => of.runs.map((run, place) => `${place === 0 ? "M" : "L"}${x(place).toFixed(1)} ${y(value(run)).toFixed(1)}`).join("");
  return (
    <li>
      <span className="name">{plain(of.name)}</span>
      <svg width={WIDTH} height={HEIGHT} role="img" aria-label={`${of.name}: 95 percent below ${figure(last.p95)} ${of.unit} in the last run`}>
        <path d={line((run) => run.p95)} fill="none" stroke="var(--flaky)" strokeDasharray="6 3" strokeWidth={1.5} />
        <path d={line((run) => run.mean)} fill="none" stroke="var(--running)" strokeWidth={2} />
        <circle cx={x(of.runs.length - 1)} cy={y(last.mean)} r={2.5} fill="var(--running)" />
      </svg>
      <span>
        mean {figure(last.mean)}, 95 % below {figure(last.p95)} {plain(of.unit)}, {figure(last.rate)} a second
        {last.errors > 0 ? <span className="tone-failed">, ◆ {figure(last.errors)} errors</span> : null} in <Link to={`/runs/${last.run}`} className="name">{last.run}</Link> {last.verdict ? <State of={last.verdict} /> : null}, <When at={last.at} />
      </span>
    </li>
  );
}
