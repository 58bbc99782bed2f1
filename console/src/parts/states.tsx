// The one place for states: their words, glyphs, colours and letters.

import type { RunSummary } from "../data/api";

export type Outcome = "passed" | "flaky" | "failed" | "skipped" | "parked" | "not-run";

export const OUTCOMES: Outcome[] = ["failed", "flaky", "passed", "skipped", "parked", "not-run"];

const GLYPHS: Record<string, string> = {
  passed: "●",
  flaky: "◐",
  failed: "◆",
  skipped: "▽",
  parked: "▭",
  "not-run": "◌",
  waiting: "–",
  running: "≈",
  "timed-out": "◔",
  crashed: "‼",
  lost: "↯",
  stopped: "■",
  void: "⊘",
  queued: "–",
  listing: "≈",
};

const LETTERS: Record<string, string> = { passed: "p", flaky: "k", failed: "f", skipped: "s", parked: "r", "not-run": "n" };

export const letterOf = (outcome: string) => LETTERS[outcome] ?? "";
export const outcomeOf = (letter: string) => Object.keys(LETTERS).find((o) => LETTERS[o] === letter) ?? "not-run";
export const glyphOf = (state: string) => GLYPHS[state] ?? "";

/** The CSS class that colours a state. */
export function toneOf(state: string) {
  if (state === "timed-out" || state === "crashed") return "tone-failed";
  if (state === "lost" || state === "queued" || state === "waiting") return "tone-not-run";
  if (state === "listing") return "tone-running";
  return `tone-${state}`;
}

export function State({ of, word = true }: { of: string; word?: boolean }) {
  return (
    <span className={`state ${toneOf(of)}`} title={of}>
      <span aria-hidden={word}>{glyphOf(of)}</span>
      {word ? ` ${of}` : <span className="visually-hidden">{of}</span>}
    </span>
  );
}

/** A run of a hunt: it repeats a failure on purpose, and says nothing of how its suite does. */
export const isOfHunt = (run: RunSummary) => "hunt" in run.labels;

/** A run's verdict, or where it stands. */
export const stateOf = (run: RunSummary): string => run.verdict ?? run.phase;
