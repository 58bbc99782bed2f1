// A run against another one of its suite.

import { Link } from "react-router";

import { type Compared, type ComparedTest, type ComparedTests, useCompared } from "../data/history";
import { glyphOf, toneOf } from "./states";
import { TestName, capital, plain, span } from "./words";

type Lists = "newly_failing" | "still_failing" | "mended" | "untested" | "newly_flaky" | "new" | "gone" | "slower" | "faster";

/** The lists in the order in which one looks at them, with their words and tones. */
export function listsOf(found: Compared): [Lists, string, string][] {
  return [
    ["newly_failing", "newly failing", "tone-failed"],
    ["still_failing", "still failing", "tone-failed"],
    ["untested", "not tested any more", "tone-void"],
    ["newly_flaky", "newly flaky", "tone-flaky"],
    ["mended", "mended", "tone-passed"],
    ["slower", "slower", ""],
    ["faster", "faster", ""],
    ["new", "new", ""],
    ["gone", found.same_choice ? "gone" : "not in this run", ""],
  ];
}

function Outcome({ run, test }: { run: string; test: ComparedTest["before"] }) {
  if (!test) return <span>not there</span>;
  return (
    <Link to={`/runs/${run}/tests/${test.entry}`} className="plain">
      <span className={toneOf(test.outcome)}>
        {glyphOf(test.outcome)} {test.outcome}
      </span>
    </Link>
  );
}

/** The tests of one list. */
export function ComparedList({ found, list, of, most }: { found: Compared; list: Lists; of: ComparedTests; most: number }) {
  const timed = list === "slower" || list === "faster";
  const other = found.with ?? "";
  return (
    <>
      <ul className="plain-list compared">
        {of.tests.slice(0, most).map((test) => {
          const [run, at] = test.after ? [found.run, test.after.entry] : [other, test.before?.entry ?? 0];
          return (
            <li key={`${test.test}/${test.variant}`}>
              <Link to={`/runs/${run}/tests/${at}`} className="plain">
                <TestName name={test.test} variant={test.variant} />
              </Link>{" "}
              <small>
                {timed && test.before && test.after ? (
                  `${span(test.before.spent_us)} → ${span(test.after.spent_us)}${list === "slower" ? `, ${(test.after.spent_us / Math.max(test.before.spent_us, 1)).toFixed(1)} times` : ""}`
                ) : list === "still_failing" || list === "new" || list === "gone" ? null : (
                  <>
                    <Outcome run={other} test={test.before} /> → <Outcome run={found.run} test={test.after} />
                  </>
                )}
              </small>
              {test.message ? <div className="why">{plain(test.message.split("\n")[0]).slice(0, 200)}</div> : null}
            </li>
          );
        })}
      </ul>
      {of.total > most ? <p className="under-figure">and {(of.total - most).toLocaleString("en")} more</p> : null}
    </>
  );
}

/** What is new in a run that is over, for the head of its page: counts, and the tests that fail newly. */
export function NewInRun({ run }: { run: string }) {
  const found = useCompared(run, "last").data;
  if (!found?.with) return null;
  const counted = listsOf(found).filter(([list]) => found[list].total > 0 && list !== "faster" && list !== "new");
  return (
    <section className="new-in-run" aria-label="What is new">
      <p>
        Against{" "}
        <Link to={`/runs/${found.with}`} className="name">
          {found.with}
        </Link>
        :{" "}
        {counted.length === 0
          ? "no test ended otherwise"
          : counted.map(([list, word, tone], i) => (
              <span key={list}>
                {i > 0 ? ", " : ""}
                <span className={tone || undefined}>
                  {found[list].total.toLocaleString("en")} {word}
                </span>
              </span>
            ))}{" "}
        <Link to={`/runs/${run}/compared`}>compare</Link>
      </p>
      {found.newly_failing.total > 0 ? <ComparedList found={found} list="newly_failing" of={found.newly_failing} most={5} /> : null}
    </section>
  );
}

/** How the two runs were carried out differently. */
export function Setup({ found }: { found: Compared }) {
  if (found.setup.length === 0) return null;
  return (
    <table className="table table-sm dense setup">
      <thead>
        <tr>
          <th>Setup</th>
          <th>{found.with}</th>
          <th>{found.run}</th>
        </tr>
      </thead>
      <tbody>
        {found.setup.map((one) => (
          <tr key={one.what}>
            <td>{capital(plain(one.what))}</td>
            <td className="name">{one.before ? plain(one.before) : "–"}</td>
            <td className="name">{one.after ? plain(one.after) : "–"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
