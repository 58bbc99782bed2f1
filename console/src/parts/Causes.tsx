// A run's failures gathered by cause, and its variants side by side.

import { useCauses, useVariants } from "../data/api";
import { glyphOf, toneOf } from "./states";
import { TestName, span } from "./words";

/** Causes that several tests share; one that only one test has says no more than the test's own line. */
export function Causes({ run, version, onName }: { run: string; version: number; onName: (name: string) => void }) {
  const causes = useCauses(run, version);
  const several = causes.data?.filter((cause) => cause.count > 1) ?? [];
  if (several.length === 0) return null;
  return (
    <section className="causes" aria-label="Failures by cause">
      <h2>Causes</h2>
      <ul>
        {several.slice(0, 8).map((cause) => (
          <li key={cause.likeness}>
            <span className={cause.flaky === cause.count ? "tone-flaky" : "tone-failed"}>{cause.flaky === cause.count ? "◐" : "◆"}</span> <strong>{cause.count} tests</strong>
            {cause.flaky > 0 ? `, ${cause.flaky} of them flaky` : ""}: <code>{cause.likeness}</code>
            <div className="why">
              {cause.tests.slice(0, 3).map(([index, name]) => (
                <button key={index} type="button" className="opener" onClick={() => onName(name.split(" ")[0])}>
                  <TestName name={name} />
                </button>
              ))}
              {cause.count > 3 ? ` and ${cause.count - 3} more` : ""}
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}

export function VariantTable({ run, version }: { run: string; version: number }) {
  const seen = useVariants(run, version);
  if (!seen.data || seen.data.variants.length < 2) return null;
  const { variants, differing, total } = seen.data;
  return (
    <section className="variants" aria-label="Variants side by side">
      <h2>Variants</h2>
      <table className="table table-sm dense">
        <thead>
          <tr>
            <th>Test</th>
            {variants.map((v) => (
              <th key={v.variant} className="name">
                {v.variant}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          <tr>
            <td>all, took {span(variants.reduce((sum, v) => sum + v.spent_us, 0))} together</td>
            {variants.map((v) => (
              <td key={v.variant}>
                {(["passed", "flaky", "failed", "skipped", "parked", "not-run"] as const)
                  .filter((of) => v.tally[of] > 0)
                  .map((of) => (
                    <span key={of} className={`${toneOf(of)} count`}>{`${glyphOf(of)} ${v.tally[of]} `}</span>
                  ))}
              </td>
            ))}
          </tr>
          {differing.slice(0, 20).map((row) => (
            <tr key={row.test}>
              <td>
                <TestName name={row.test} />
              </td>
              {row.entries.map((entry, i) => {
                const outcome = (entry as [number, string | null] | null)?.[1];
                return (
                  <td key={variants[i].variant} className={outcome ? toneOf(outcome) : undefined}>
                    {outcome ? `${glyphOf(outcome)} ${outcome}` : "–"}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="under-figure">{total === 0 ? "No test ends differently in one variant than in another." : `${total} ${total === 1 ? "test does" : "tests do"} not end the same in all variants.`}</p>
    </section>
  );
}
