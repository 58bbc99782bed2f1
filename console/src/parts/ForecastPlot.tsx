// How long a run would take, by number of shards: time as a line with its range, cost as the steps under it.

import { useState } from "react";

import { type Forecast, useForecast } from "../data/api";
import { span } from "./words";

const WIDTH = 640;
const HEIGHT = 200;
const EDGE = { left: 58, right: 12, top: 10, bottom: 26 };

export function ForecastPlot({ suite, options, shards }: { suite: string; options?: { pick: string[]; drop: string[]; variants: string[] }; shards?: number }) {
  const forecast = useForecast(suite, options);
  if (forecast.error) return <p className="under-figure">No forecast: {forecast.error.message}</p>;
  if (!forecast.data) return <p className="under-figure">…</p>;
  return <Plot made={forecast.data} chosen={shards} />;
}

function Plot({ made, chosen }: { made: Forecast; chosen?: number }) {
  const [over, setOver] = useState<number | null>(null);
  const points = made.points;
  const last = points[points.length - 1]?.shards ?? 1;
  const most = Math.max(...points.map((p) => p.high_us), 1);
  const x = (n: number) => EDGE.left + ((n - 1) / Math.max(last - 1, 1)) * (WIDTH - EDGE.left - EDGE.right);
  const y = (us: number) => HEIGHT - EDGE.bottom - (us / most) * (HEIGHT - EDGE.top - EDGE.bottom);
  const line = points.map((p) => `${x(p.shards)},${y(p.time_us)}`).join(" ");
  const range = [...points.map((p) => `${x(p.shards)},${y(p.high_us)}`), ...[...points].reverse().map((p) => `${x(p.shards)},${y(p.low_us)}`)].join(" ");
  const shown = points.find((p) => p.shards === (over ?? chosen ?? made.enough ?? last)) ?? points[0];
  const ticks = [1, ...[4, 8, 12, 16, 20, 24, 28, 32].filter((n) => n <= last)];
  return (
    <figure className="forecast">
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={`Forecast of ${made.suite}: time by number of shards`} onMouseLeave={() => setOver(null)}>
        {[0, 0.5, 1].map((part) => (
          <g key={part}>
            <line x1={EDGE.left} x2={WIDTH - EDGE.right} y1={y(most * part)} y2={y(most * part)} className="rule" />
            <text x={EDGE.left - 8} y={y(most * part) + 4} textAnchor="end">
              {span(Math.round(most * part))}
            </text>
          </g>
        ))}
        {ticks.map((n) => (
          <text key={n} x={x(n)} y={HEIGHT - 8} textAnchor="middle">
            {n}
          </text>
        ))}
        <line x1={EDGE.left} x2={WIDTH - EDGE.right} y1={y(made.floor_us)} y2={y(made.floor_us)} className="floor" />
        {made.enough ? <rect x={x(made.enough)} y={EDGE.top} width={WIDTH - EDGE.right - x(made.enough)} height={HEIGHT - EDGE.top - EDGE.bottom} className="beyond" /> : null}
        <polygon points={range} className="range" />
        <polyline points={line} className="time" />
        {points.map((p) => (
          <g key={p.shards} onMouseEnter={() => setOver(p.shards)}>
            <rect x={x(p.shards) - 9} y={EDGE.top} width={18} height={HEIGHT - EDGE.top - EDGE.bottom} className="catch" />
            <circle cx={x(p.shards)} cy={y(p.time_us)} r={p === shown ? 5 : 2.5} className="dot" />
          </g>
        ))}
      </svg>
      <figcaption>
        {shown ? (
          <p>
            <strong>
              {shown.shards} {shown.shards === 1 ? "shard" : "shards"}: {span(shown.time_us)}
            </strong>{" "}
            ({span(shown.low_us)} to {span(shown.high_us)}), {shown.slot_minutes.toFixed(2)} slot-minutes
          </p>
        ) : null}
        <p>
          {made.enough ? `From ${made.enough} shards on more stop helping. ` : "More shards would still help. "}
          No number goes below {span(made.floor_us)}: {made.floor}.{" "}
          {made.guessed > 0 ? `${made.guessed} of ${made.tests} tests were never measured. ` : ""}
          The pool has {made.slots} {made.slots === 1 ? "slot" : "slots"} now.
        </p>
      </figcaption>
    </figure>
  );
}
