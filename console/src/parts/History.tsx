// A test over its runs: how often it failed and was flaky, when it was mended, when its time changed, what its failing goes with.

import { Suspense, lazy } from "react";
import { Link } from "react-router";

import { type HistoryRun, type Share, useEvidence, useHistory } from "../data/history";
import { Loading } from "./Frame";
import { Commit } from "./Origin";
import { glyphOf, toneOf } from "./states";
import { When, plain, span } from "./words";

/** The plot comes with a library of its own. */
const Durations = lazy(() => import("./Durations"));

/** Runs that are listed one by one; the plot has all. */
const LISTED = 30;

export const percent = (share: number) => `${(100 * share).toFixed(share > 0 && share < 0.1 ? 1 : 0)}%`;

/** How sure something is: never rounded up to all. */
export const sureSaid = (sure: number) => `${Math.min(99.9, Math.floor(sure * 1000) / 10)}% sure`;

/** A share with the interval in which it surely lies. */
export function ShareSaid({ share, word, tone }: { share: Share; word: string; tone: string }) {
  return (
    <span title={`surely (95%) between ${percent(share.low)} and ${percent(share.high)}`}>
      <span className={share.hits > 0 ? tone : undefined}>
        {word} {share.hits} of {share.of}
      </span>
      {share.hits > 0 ? (
        <small>
          {" "}
          ({percent(share.low)} to {percent(share.high)})
        </small>
      ) : null}
    </span>
  );
}

function Place({ run }: { run: HistoryRun }) {
  return (
    <>
      <Link to={`/runs/${run.run}`} className="name">
        {run.run}
      </Link>
      {run.commit ? (
        <>
          {" "}
          at <Commit of={run.commit} />
        </>
      ) : null}
      {run.author ? ` by ${plain(run.author)}` : null}
    </>
  );
}

export function History({ suite, test, variant, here, version }: { suite: string; test: string; variant: string; here?: string; version?: string }) {
  const history = useHistory(suite, test, variant, version);
  const one = history.data;
  const wobbles = one ? one.flaky.hits + one.failed.hits > 0 : false;
  if (history.error) return <p className="under-figure">{history.error.message}</p>;
  if (!one) return <Loading what="the history" />;
  return (
    <section aria-label="History">
      <h2>History</h2>
      {one.runs.length === 0 ? (
        <p className="under-figure">No run that is over had it.</p>
      ) : (
        <>
          <p className="under-figure">
            Of its last runs: <ShareSaid share={one.failed} word="failed" tone="tone-failed" />, <ShareSaid share={one.flaky} word="flaky" tone="tone-flaky" />
          </p>
          <Suspense fallback={<Loading what="the plot" />}>
            <Durations runs={one.runs} shifts={one.shifts} />
          </Suspense>
          {one.shifts.length > 0 ? (
            <>
              <h3>When its time changed</h3>
              <ul className="plain-list">
                {one.shifts.map((shift) => (
                  <li key={`${shift.pool}/${shift.at.run}`}>
                    <Place run={shift.at} />, <When at={shift.at.created_at} />: {span(shift.before_us)} → {span(shift.after_us)},{" "}
                    <span className={shift.after_us > shift.before_us ? "tone-flaky" : "tone-passed"}>{(Math.max(shift.after_us, 1) / Math.max(shift.before_us, 1)).toFixed(1)} times</span>{" "}
                    <small>
                      {sureSaid(shift.sure)}
                      {shift.pool === "main" ? "" : `, pool ${plain(shift.pool)}`}
                    </small>
                  </li>
                ))}
              </ul>
            </>
          ) : null}
          {one.spells.length > 0 ? (
            <>
              <h3>When it failed</h3>
              <ul className="plain-list">
                {one.spells.slice(0, 8).map((spell) => (
                  <li key={`${spell.branch ?? ""}/${spell.from.run}`}>
                    <span className="tone-failed">◆</span> since <Place run={spell.from} />, for {spell.runs === 1 ? "1 run" : `${spell.runs} runs`}
                    {spell.branch ? ` on ${plain(spell.branch)}` : ""};{" "}
                    {spell.mended ? (
                      <>
                        <span className="tone-passed">mended</span> in <Place run={spell.mended} />
                      </>
                    ) : (
                      <span className="tone-failed">not mended yet</span>
                    )}
                    {spell.message ? <div className="why">{plain(spell.message.split("\n")[0]).slice(0, 200)}</div> : null}
                  </li>
                ))}
              </ul>
              {one.spells.length > 8 ? <p className="under-figure">and {one.spells.length - 8} times before</p> : null}
            </>
          ) : null}
          {wobbles ? <Evidence suite={suite} test={test} /> : null}
          <h3>Runs</h3>
          <ol className="record">
            {one.runs.slice(0, LISTED).map((past) => (
              <li key={`${past.run}/${past.index}`} className={past.run === here ? "here" : undefined}>
                <Link to={`/runs/${past.run}/tests/${past.index}`} className="plain" title={past.message ? plain(past.message) : undefined}>
                  <span className={toneOf(past.outcome)}>{glyphOf(past.outcome)}</span>
                  <span className="visually-hidden">{past.outcome}</span> <span className="name">{past.run}</span> <small>{[span(past.spent_us), past.branch ? plain(past.branch) : null].filter(Boolean).join(", ")}</small>
                </Link>
              </li>
            ))}
          </ol>
        </>
      )}
    </section>
  );
}

/** What failing goes with, each with its evidence. */
export function Evidence({ suite, test }: { suite: string; test: string }) {
  const found = useEvidence(suite, test, true).data;
  if (!found || found.attempts.hits === 0) return null;
  return (
    <>
      <h3>What its failing goes with</h3>
      {found.goes_with.length === 0 ? (
        <p className="under-figure">Nothing that was looked at: worker, load, order, time of day, variant, the test before it. {found.attempts.hits} of its last {found.attempts.of} attempts failed.</p>
      ) : (
        <ul className="plain-list">
          {found.goes_with.slice(0, 6).map((one) => (
            <li key={`${one.what}/${one.value}`}>
              {one.what}: <span className="name">{plain(one.value)}</span>. Failed <span className="tone-failed">{one.with.hits} of {one.with.of}</span> times, otherwise {one.without.hits} of {one.without.of} <small>{sureSaid(1 - one.chance)}</small>
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
