// The choice of the start form, to copy: as a command for a terminal, as a step of a CI job, and as a brief.

import { useState } from "react";
import { Link } from "react-router";

import type { NewRun } from "../data/api";
import { written } from "./ChoiceForm";
import { Copy } from "./Copy";

/** A word as a shell takes it. */
const quoted = (word: string) => (/^[A-Za-z0-9_@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`);

const TEXTS = ["pick", "drop"] as const;
const NUMBERS = ["retries", "shards", "repeat", "seed"] as const;
const SWITCHES = ["each_slot", "shuffle", "recent_failures_first", "run_parked", "flaky_fails"] as const;
const SPANS = ["within", "budget"] as const;
const dashed = (key: string) => key.replaceAll("_", "-");

function command({ suite, branch, pool, options: o }: NewRun): string {
  const words = ["kesmo", "start", suite ?? ""];
  const add = (option: string, value: string) => words.push(`--${option}`, quoted(value));
  if (branch) add("branch", branch);
  if (pool) add("pool", pool);
  for (const key of TEXTS) o[key]?.forEach((value) => add(key, value));
  o.variants?.forEach((value) => add("variant", value));
  for (const key of NUMBERS) if (o[key] != null) add(key, String(o[key]));
  for (const key of SWITCHES) if (o[key]) words.push(`--${dashed(key)}`);
  if (o.priority && o.priority !== "normal") add("priority", o.priority);
  if (o.env) add("env", o.env);
  if (o.image) add("image", o.image);
  for (const key of SPANS) if (o[key] != null) add(key, written(o[key]));
  for (const [k, v] of Object.entries(o.set ?? {})) add("set", `${k}=${v}`);
  for (const [k, v] of Object.entries(o.labels ?? {})) add("label", `${k}=${v}`);
  return [...words, "--wait"].join(" ");
}

/** A text as TOML writes it; what JSON escapes, TOML reads. */
const toml = (text: string) => JSON.stringify(text).replaceAll("\u007f", "\\u007F");

function brief({ suite, branch, pool, options: o }: NewRun): string {
  const lines = [`suite = ${toml(suite ?? "")}`];
  if (branch) lines.push(`branch = ${toml(branch)}`);
  if (pool) lines.push(`pool = ${toml(pool)}`);
  for (const key of [...TEXTS, "variants"] as const) if (o[key]?.length) lines.push(`${key} = [${o[key].map(toml).join(", ")}]`);
  for (const key of NUMBERS) if (o[key] != null) lines.push(`${key} = ${o[key]}`);
  for (const key of SWITCHES) if (o[key]) lines.push(`${dashed(key)} = true`);
  if (o.priority && o.priority !== "normal") lines.push(`priority = ${toml(o.priority)}`);
  if (o.env) lines.push(`env = ${toml(o.env)}`);
  if (o.image) lines.push(`image = ${toml(o.image)}`);
  for (const key of SPANS) if (o[key] != null) lines.push(`${key} = ${toml(written(o[key]))}`);
  for (const table of ["set", "labels"] as const) {
    const pairs = Object.entries(o[table] ?? {});
    if (pairs.length > 0) lines.push("", `[${table}]`, ...pairs.map(([k, v]) => `${toml(k)} = ${toml(v)}`));
  }
  return `${lines.join("\n")}\n`;
}

export function SameChoice({ made }: { made: NewRun | string }) {
  const [shown, setShown] = useState("terminal");
  if (typeof made === "string") return null;
  const texts: Record<string, [string, string]> = {
    terminal: ["For a terminal", command(made)],
    ci: ["For a CI job", `# KESMO_TOKEN is a secret of the job: a token of the role operator\nexport KESMO_URL=${location.origin}\n# with what the job knows: --label build=NUMBER, and for the files of its checkout (kesmo start .) --branch BRANCH --commit COMMIT\n${command(made)} --report junit=results.xml`],
    brief: ["As a brief", brief(made)],
  };
  return (
    <section className="same-choice" aria-label="The same choice, to copy">
      <h2>The same choice, to copy</h2>
      <div className="filters" role="group" aria-label="For what">
        {Object.entries(texts).map(([key, [head]]) => (
          <button key={key} type="button" className="filter" aria-pressed={shown === key} onClick={() => setShown(key)}>
            {head}
          </button>
        ))}
        <Copy text={texts[shown][1]} />
      </div>
      <pre className="command" tabIndex={0} aria-label={texts[shown][0]}>
        {texts[shown][1]}
      </pre>
      {shown === "brief" ? (
        <p className="under-figure">
          Start by it: <code>kesmo start --from FILE --wait</code>. Save it: <code>kesmo brief add NAME --from FILE</code>, or <Link to={`/briefs/new?suite=${made.suite ?? ""}`}>here</Link>.
        </p>
      ) : null}
    </section>
  );
}
