// A measure over time: how many a second, and what its values were, one above the other on the same time.

import { Area, CartesianGrid, ComposedChart, Line, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

import type { MeasureOf } from "../data/measures";
import { figure, plain } from "./words";

interface Second {
  at: number;
  rate: number;
  errors: number;
  mean: number | null;
  p95: number | null;
  max: number | null;
}

/** Seconds without anything are there too: a gap is not a line between what was before and after. */
function secondsOf({ points, step }: MeasureOf): Second[] {
  const known = new Map(points.map((p) => [p.at, p]));
  const all: Second[] = [];
  for (let at = points[0].at; at <= points[points.length - 1].at; at += step) {
    const p = known.get(at);
    const some = p !== undefined && p.count > 0;
    all.push({ at, rate: (p?.count ?? 0) / step, errors: (p?.errors ?? 0) / step, mean: some ? p.mean : null, p95: some ? p.p95 : null, max: some ? p.max : null });
  }
  return all;
}

const TICK = { fill: "var(--dim)", fontSize: 12 };
const clock = (seconds: number) => (seconds < 120 ? `${seconds} s` : `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, "0")}`);

export default function MeasurePlot({ of }: { of: MeasureOf }) {
  const seconds = secondsOf(of);
  const unit = of.unit ? ` (${plain(of.unit)})` : "";
  const failed = seconds.some((s) => s.errors > 0);
  return (
    <figure className="durations">
      <figcaption>
        <span className="name">{plain(of.name)}</span>
        {unit} over time: <span className="line-mean">mean</span>, <span className="line-p95">95 % below</span>, <span className="line-max">largest</span>
      </figcaption>
      <div role="img" aria-label={`${of.name} over ${seconds.length * of.step} seconds: mean ${figure(of.mean)}, 95 percent below ${figure(of.p95)}, largest ${figure(of.max)} ${of.unit}. The figures are in the table above.`}>
        <ResponsiveContainer width="100%" height={170}>
          <ComposedChart data={seconds} syncId="measure" margin={{ top: 6, right: 8, bottom: 0, left: 0 }} accessibilityLayer={false}>
            <CartesianGrid stroke="var(--line)" vertical={false} />
            <XAxis dataKey="at" type="number" domain={["dataMin", "dataMax"]} hide />
            <YAxis width={56} tickFormatter={figure} stroke="var(--dim)" tick={TICK} />
            <Tooltip content={<Tip unit={of.unit} />} />
            <Line dataKey="max" stroke="var(--dim)" strokeDasharray="2 3" dot={false} isAnimationActive={false} />
            <Line dataKey="p95" stroke="var(--flaky)" strokeWidth={1.5} strokeDasharray="6 3" dot={false} isAnimationActive={false} />
            <Line dataKey="mean" stroke="var(--running)" strokeWidth={2} dot={false} isAnimationActive={false} />
          </ComposedChart>
        </ResponsiveContainer>
      </div>
      <figcaption>
        A second{failed ? <>, and <span className="tone-failed">◆ errors</span></> : null}
      </figcaption>
      <div role="img" aria-label={`How many a second: ${figure(of.rate)} in the mean`}>
        <ResponsiveContainer width="100%" height={100}>
          <ComposedChart data={seconds} syncId="measure" margin={{ top: 6, right: 8, bottom: 4, left: 0 }} accessibilityLayer={false}>
            <CartesianGrid stroke="var(--line)" vertical={false} />
            <XAxis dataKey="at" type="number" domain={["dataMin", "dataMax"]} tickFormatter={clock} stroke="var(--dim)" tick={TICK} allowDecimals={false} />
            <YAxis width={56} tickFormatter={figure} stroke="var(--dim)" tick={TICK} />
            <Tooltip content={<Tip unit={of.unit} />} />
            <Area dataKey="rate" stroke="var(--running)" fill="var(--running)" fillOpacity={0.15} isAnimationActive={false} />
            {failed ? <Area dataKey="errors" stroke="var(--failed)" fill="var(--failed)" fillOpacity={0.3} isAnimationActive={false} /> : null}
          </ComposedChart>
        </ResponsiveContainer>
      </div>
    </figure>
  );
}

function Tip({ active, payload, unit }: { active?: boolean; payload?: { payload?: Second }[]; unit: string }) {
  const s = payload?.[0]?.payload;
  if (!active || !s) return null;
  return (
    <div className="hover fixed">
      {clock(s.at)}: {figure(s.rate)} a second{s.errors > 0 ? <span className="tone-failed">, ◆ {figure(s.errors)} errors</span> : null}
      {s.mean !== null ? (
        <>
          <br />
          mean {figure(s.mean)}, 95 % below {figure(s.p95 ?? 0)}, largest {figure(s.max ?? 0)} {plain(unit)}
        </>
      ) : null}
    </div>
  );
}
