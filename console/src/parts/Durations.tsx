// What a test took over its runs, oldest on the left, each run a mark in the colour and shape of its outcome; a line where that changed for good.

import { CartesianGrid, ReferenceLine, ResponsiveContainer, Scatter, ScatterChart, Tooltip, XAxis, YAxis } from "recharts";

import type { PastEntry, TestHistory } from "../data/history";
import { glyphOf, toneOf } from "./states";
import { moment, span } from "./words";

interface Point {
  place: number;
  seconds: number;
  past: PastEntry;
}

export default function Durations({ runs, shifts }: { runs: PastEntry[]; shifts: TestHistory["shifts"] }) {
  const points: Point[] = [...runs]
    .reverse()
    .filter((past) => past.spent_us != null)
    .map((past, place) => ({ place, seconds: (past.spent_us ?? 0) / 1e6, past }));
  if (points.length < 3) return null;
  const at = new Map(points.map((p) => [p.past.run, p.place]));
  const longest = Math.max(...points.map((p) => p.seconds));
  const failed = points.filter((p) => p.past.outcome === "failed").length;
  const unit = longest < 1 ? 1e3 : 1;
  return (
    <figure className="durations">
      <figcaption>What it took ({longest < 1 ? "ms" : "s"}), by run</figcaption>
      <div role="img" aria-label={`What the test took in its last ${points.length} runs, up to ${span(longest * 1e6)}; ${failed} of them failed. The runs are listed below.`}>
        <ResponsiveContainer width="100%" height={170}>
          <ScatterChart margin={{ top: 6, right: 8, bottom: 4, left: 0 }} accessibilityLayer={false}>
            <CartesianGrid stroke="var(--line)" vertical={false} />
            <XAxis type="number" dataKey="place" domain={[0, points.length - 1]} tickFormatter={(place: number) => points[place]?.past.run.split("/").pop() ?? ""} allowDecimals={false} stroke="var(--dim)" tick={{ fill: "var(--dim)", fontSize: 12 }} />
            <YAxis type="number" dataKey="seconds" width={48} domain={[0, "auto"]} tickFormatter={(s: number) => (s * unit).toFixed(s * unit < 10 && s > 0 ? 1 : 0)} stroke="var(--dim)" tick={{ fill: "var(--dim)", fontSize: 12 }} />
            <Tooltip content={<Tip />} />
            {shifts.map((shift) => {
              const place = at.get(shift.at.run);
              return place === undefined ? null : <ReferenceLine key={`${shift.pool}/${shift.at.run}`} x={place - 0.5} stroke="var(--flaky)" strokeDasharray="4 3" strokeWidth={2} />;
            })}
            <Scatter data={points} isAnimationActive={false} shape={<Mark />} />
          </ScatterChart>
        </ResponsiveContainer>
      </div>
    </figure>
  );
}

/** A mark as the states have them: a diamond for failed, a half disc for flaky, a disc for passed. */
function Mark({ cx = 0, cy = 0, payload }: { cx?: number; cy?: number; payload?: Point }) {
  const outcome = payload?.past.outcome ?? "passed";
  const colour = `var(--${outcome})`;
  if (outcome === "failed") return <path d={`M${cx} ${cy - 5}l5 5l-5 5l-5 -5z`} fill={colour} />;
  if (outcome === "flaky")
    return (
      <g>
        <circle cx={cx} cy={cy} r={3.5} fill="none" stroke={colour} />
        <path d={`M${cx} ${cy - 3.5}a3.5 3.5 0 0 0 0 7z`} fill={colour} />
      </g>
    );
  return <circle cx={cx} cy={cy} r={2.5} fill={colour} />;
}

function Tip({ active, payload }: { active?: boolean; payload?: { payload?: Point }[] }) {
  const p = payload?.[0]?.payload;
  if (!active || !p) return null;
  return (
    <div className="hover fixed">
      <span className="name">{p.past.run}</span>
      <br />
      <span className={toneOf(p.past.outcome)}>
        {glyphOf(p.past.outcome)} {p.past.outcome}
      </span>
      , {span(p.past.spent_us)}, {moment(p.past.created_at)}
    </div>
  );
}
