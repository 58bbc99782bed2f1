// What a run measures: figures, and how each went over time.

import { Suspense, lazy, useState } from "react";
import { Button, Table } from "react-bootstrap";

import { type MeasureOf, useMeasures } from "../data/measures";
import { figure, plain } from "./words";

const MeasurePlot = lazy(() => import("./MeasurePlot"));

export function Measures({ run, over }: { run: string; over: boolean }) {
  const measures = useMeasures(run, over).data?.measures ?? [];
  const [chosen, setChosen] = useState<string | null>(null);
  if (measures.length === 0) return null;
  const shown = measures.find((m) => m.name === chosen) ?? measures.reduce((most, m) => (m.errors > most.errors || (m.errors === most.errors && m.count > most.count) ? m : most));
  return (
    <section aria-label="Measured">
      <h2>Measured</h2>
      <div className="wide">
        <Table size="sm" hover className="dense">
          <thead>
            <tr>
              <th>Measure</th>
              <th className="number">Count</th>
              <th className="number">A second</th>
              <th className="number">Mean</th>
              <th className="number">Min</th>
              <th className="number wide-only">50 %</th>
              <th className="number">95 %</th>
              <th className="number wide-only">99 %</th>
              <th className="number">Max</th>
              <th className="number">Errors</th>
            </tr>
          </thead>
          <tbody>
            {measures.map((m) => (
              <tr key={m.name}>
                <td>
                  {measures.length > 1 ? (
                    <Button size="sm" variant="link" className="name p-0" aria-pressed={m.name === shown.name} onClick={() => setChosen(m.name)}>
                      {plain(m.name)}
                    </Button>
                  ) : (
                    <span className="name">{plain(m.name)}</span>
                  )}
                  {m.unit ? ` ${plain(m.unit)}` : ""}
                </td>
                <td className="number">{figure(m.count)}</td>
                <td className="number">{figure(m.rate)}</td>
                <Values of={m} />
                <td className="number">{m.errors > 0 ? <span className="tone-failed">◆ {figure(m.errors)}</span> : "0"}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </div>
      {shown.points.length > 1 ? (
        <Suspense fallback={null}>
          <MeasurePlot of={shown} />
        </Suspense>
      ) : null}
    </section>
  );
}

function Values({ of }: { of: MeasureOf }) {
  const value = (value: number) => (of.count > 0 ? figure(value) : "");
  return (
    <>
      <td className="number">{value(of.mean)}</td>
      <td className="number">{value(of.min)}</td>
      <td className="number wide-only">{value(of.p50)}</td>
      <td className="number">{value(of.p95)}</td>
      <td className="number wide-only">{value(of.p99)}</td>
      <td className="number">{value(of.max)}</td>
    </>
  );
}
