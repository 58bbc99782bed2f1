// A first suite file: what somebody says of a suite, and the file that follows from it.

import { useDeferredValue, useState } from "react";
import { Form } from "react-bootstrap";

import { useDraft, type Said } from "../data/api";
import { Alarm } from "../parts/Frame";
import { Copy } from "../parts/Copy";

/** What a suite's program can do, in the words of who wrote it, and what that says in the file. */
const KINDS: Record<string, [string, Partial<Said>]> = {
  "tap-files": ["prints TAP: each file holds several tests", { results: "tap", each: "file" }],
  "tap-tests": ["prints TAP: each line is a test of the list", { results: "tap", each: "test" }],
  "junit-files": ["writes JUnit XML: each file holds several tests", { results: "junit", each: "file" }],
  "junit-tests": ["writes JUnit XML: each test case is a test of the list", { results: "junit", each: "test" }],
  events: ["writes event lines", { results: "events", each: "test" }],
  exit: ["ends with status 0 if it passed", { results: "exit", each: "test" }],
};

export function DraftPage() {
  const [said, setSaid] = useState({ name: "", about: "", files: "tests/*.sh", list: "", run: "", rerun: "", junit: "out/*.xml", limit: "60s", retries: "1", feed: false });
  const [kind, setKind] = useState("tap-files");
  const set = (change: Partial<typeof said>) => setSaid({ ...said, ...change });
  const given = (text: string) => text.trim() || null;
  const of = KINDS[kind][1];
  const asked: Said = {
    name: given(said.name),
    about: given(said.about),
    files: given(said.files),
    list: given(said.list),
    run: given(said.run),
    rerun: of.each === "file" ? given(said.rerun) : null,
    ...of,
    junit: of.results === "junit" ? given(said.junit) : null,
    feed: said.feed && (kind === "tap-tests" || kind === "events"),
    limit: given(said.limit),
    retries: said.retries.trim() === "" ? null : Number(said.retries),
  };
  const draft = useDraft(useDeferredValue(JSON.stringify(asked)));
  const text = (id: keyof typeof said, label: string, hint: string, placeholder = "") => (
    <Form.Group className="mb-3" controlId={`draft-${id}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Control size="sm" className="name" placeholder={placeholder} value={String(said[id])} onChange={(e) => set({ [id]: e.target.value })} />
      {hint ? <Form.Text>{hint}</Form.Text> : null}
    </Form.Group>
  );
  return (
    <div className="start-columns">
      <Form className="start" onSubmit={(e) => e.preventDefault()}>
        <h1 className="figure">A first suite file</h1>
        {text("name", "What is the suite called?", "Small letters, digits and hyphens.", "my-suite")}
        {text("about", "What does it test, in a line?", "")}
        {text("files", "Which files are its tests, or hold them?", "A pattern from the suite's folder on; ** goes below folders.")}
        <Form.Group className="mb-3" controlId="draft-kind">
          <Form.Label>What does its program do?</Form.Label>
          <Form.Select size="sm" value={kind} onChange={(e) => setKind(e.target.value)}>
            {Object.entries(KINDS).map(([key, [label]]) => (
              <option key={key} value={key}>
                It {label}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        {of.results === "junit" ? text("junit", "Where are its XML files?", "") : null}
        {text("run", "How is one run?", "{name} stands for it; {names} for several at once. Left empty: by what its ending says.", "sh {name}")}
        {text("list", "How are they listed?", "A command that prints the names, one a line. Left empty: the files that match.", "./tests --names")}
        {of.each === "file" ? text("rerun", "How are some cases of a file run again?", "{cases-file} holds one title a line. Left empty: a retry runs the file whole.", "sh {name} --only {cases-file}") : null}
        {kind === "tap-tests" || kind === "events" ? (
          <Form.Check className="mb-3" id="draft-feed" label="It can stay, and read names from its standard input" checked={said.feed} onChange={(e) => set({ feed: e.target.checked })} />
        ) : null}
        {text("limit", "After how long is one ended?", "")}
        {text("retries", "How often is what fails run again?", "")}
      </Form>
      <aside>
        <section className="same-choice" aria-label="The suite file">
          <h2>kesmo.toml</h2>
          <Alarm said={draft.error?.message} />
          {draft.data ? (
            <>
              <Copy text={draft.data.file} />
              <pre className="command" tabIndex={0} aria-label="The text of the suite file">
                {draft.data.file}
              </pre>
              <p className="under-figure">
                Put it into the suite's folder as <code>kesmo.toml</code>, and see what it makes of three tests: <code>kesmo suite try FOLDER</code>. In a terminal <code>kesmo suite draft FOLDER</code> looks at the files itself.
              </p>
            </>
          ) : null}
        </section>
      </aside>
    </div>
  );
}
