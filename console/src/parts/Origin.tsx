// What started a run, and what of it comes from version control.

import { Link } from "react-router";

import { type Run, type RunSummary, useRun } from "../data/api";
import { State, glyphOf, stateOf, toneOf } from "./states";
import { plain } from "./words";

/** What started it, with a way there. */
export function Origin({ run }: { run: RunSummary }) {
  const { kind, name } = run.origin ?? {};
  if (kind === "imported") return <>results that ran elsewhere</>;
  if (!name) return null;
  if (kind === "schedule") return <>schedule <Link to={`/schedules/${name}`}>{name}</Link></>;
  if (kind === "webhook") return <>webhook <Link to={`/webhooks/${name}`}>{name}</Link></>;
  if (kind === "chain") return <>after <Link to={`/runs/${name}`}>{name}</Link></>;
  if (kind === "poll") return <>a new commit on {plain(name)}</>;
  return null;
}

/** The first digits of a commit. */
export function Commit({ of }: { of: string }) {
  return <code title={of}>{of.slice(0, 10)}</code>;
}

const goesOn = ({ then, chain }: Run) => Boolean(then) || (chain ?? []).some((link) => !link.verdict);

/** The runs of a chain as one: each with its verdict, and the brief that is still to follow. */
export function Chain({ run }: { run: Run }) {
  const links = run.chain ?? [];
  // What follows it begins when its own stream is over.
  const over = Boolean(run.verdict) && (links.length > 0 || Boolean(run.then));
  const later = useRun(run.name, over, goesOn).data;
  const { chain, then } = { chain: later?.chain ?? links, then: later ? later.then : run.then };
  if (chain.length === 0) {
    return then ? (
      <p className="chain" aria-label="Chain">
        <span className="under-figure">then</span> <Link to={`/briefs/${then}`}>{then}</Link>
      </p>
    ) : null;
  }
  return (
    <ol className="chain" aria-label="Chain">
      {chain.map((link) => {
        const state = link.run === run.name ? stateOf(run) : (link.verdict ?? link.phase);
        return (
          <li key={link.run} aria-current={link.run === run.name ? "step" : undefined}>
            {link.run === run.name ? (
              <strong className="name">
                <span className={toneOf(state)}>{glyphOf(state)}</span> {link.run}
              </strong>
            ) : (
              <Link to={`/runs/${link.run}`} className="name">
                <State of={state} word={false} /> {link.run}
              </Link>
            )}
          </li>
        );
      })}
      {then ? (
        <li>
          <span className="tone-not-run">– then</span> <Link to={`/briefs/${then}`}>{then}</Link>
        </li>
      ) : null}
    </ol>
  );
}
