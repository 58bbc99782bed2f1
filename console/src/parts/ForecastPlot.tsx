// How long a run would take, by number of shards: what is said in words stands here, the plot in a part of its own.

import { Suspense, lazy, useState } from "react";

import { type Forecast, useForecast } from "../data/api";
import { span } from "./words";

/** The plot comes with a library of its own. */
const ForecastChart = lazy(() => import("./ForecastChart"));

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
  const shown = points.find((p) => p.shards === (over ?? chosen ?? made.enough ?? last)) ?? points[0];
  return (
    <figure className="forecast">
      <figcaption className="title">Time of a run (s) by number of shards</figcaption>
      <div role="img" aria-label={`Forecast of ${made.suite}: time by number of shards; the same as a table below`}>
        <Suspense fallback={<div style={{ height: 200 }} />}>
          <ForecastChart made={made} shown={shown} onOver={setOver} />
        </Suspense>
      </div>
      <div className="forecast-said">
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
      </div>
      <details>
        <summary>As a table</summary>
        <table className="table table-sm dense">
          <thead>
            <tr>
              <th className="number">Shards</th>
              <th className="number">Time</th>
              <th className="number">From</th>
              <th className="number">To</th>
              <th className="number">Slot-minutes</th>
            </tr>
          </thead>
          <tbody>
            {points.map((p) => (
              <tr key={p.shards}>
                <td className="number">{p.shards}</td>
                <td className="number">{span(p.time_us)}</td>
                <td className="number">{span(p.low_us)}</td>
                <td className="number">{span(p.high_us)}</td>
                <td className="number">{p.slot_minutes.toFixed(2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </figure>
  );
}
