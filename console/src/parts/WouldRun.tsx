// The tests that a choice would run, as it is typed.

import { useDeferredValue, useMemo } from "react";

import { type RunOptions, useTests } from "../data/api";
import { TestName, plain, span } from "./words";

/** Tests that are named; the others are counted. */
const MOST_NAMED = 60;

export function WouldRun({ suite, options }: { suite: string; options: Partial<RunOptions> | string }) {
  const text = typeof options === "string" ? "" : JSON.stringify(options);
  const rested = useDeferredValue(text);
  const asked = useMemo(() => (rested ? (JSON.parse(rested) as Partial<RunOptions>) : {}), [rested]);
  const tests = useTests(suite, asked, rested !== "");
  const found = tests.data?.tests ?? [];
  const parked = found.filter((t) => t.parked).length;
  return (
    <section className="would-run" aria-label="Tests that it would run">
      <h2>What it would run</h2>
      {tests.error ? (
        <p role="status" className="tone-failed">
          ◆ {plain(tests.error.message)}
        </p>
      ) : tests.data ? (
        <>
          <p className="under-figure" role="status">
            {plain(tests.data.choice)}
            {parked > 0 && parked === found.length ? <span className="tone-void">. All of them are parked: the run would be void</span> : null}
          </p>
          <ul>
            {found.slice(0, MOST_NAMED).map((t) => (
              <li key={t.name + t.variant}>
                <span className="number">{t.parked ? <span className="tone-parked">▭</span> : span(t.expected_us)}</span> <TestName name={t.name} variant={t.variant} />
              </li>
            ))}
          </ul>
          {found.length > MOST_NAMED ? <p className="under-figure">and {found.length - MOST_NAMED} more</p> : null}
        </>
      ) : (
        <p className="under-figure">Reading its tests …</p>
      )}
    </section>
  );
}
