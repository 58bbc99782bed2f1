// Branches of a suite that are watched, and a form to watch others.

import { type FormEvent, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router";

import { useMe } from "../data/api";
import { useBriefs, usePutWatch, useRemoveWatch, useWatches } from "../data/starts";
import { Alarm } from "./Frame";
import { Commit } from "./Origin";
import { When, plain, span } from "./words";

export function Watches({ suite }: { suite: string }) {
  const watches = useWatches(suite, true);
  const briefs = useBriefs();
  const [put, remove] = [usePutWatch(suite), useRemoveWatch(suite)];
  const [branches, setBranches] = useState("");
  const [look, setLook] = useState("1m");
  const [brief, setBrief] = useState("");
  const may = useMe().data?.role !== "reader";
  const submit = (event: FormEvent) => {
    event.preventDefault();
    put.mutate({ branches, look, brief: brief || null }, { onSuccess: () => setBranches("") });
  };
  const error = put.error ?? remove.error ?? watches.error;
  return (
    <section className="parks" aria-label="Watched branches">
      <h2>Watched branches</h2>
      {watches.data?.length === 0 ? <p className="under-figure">None: a new commit starts nothing by itself.</p> : null}
      <ul>
        {(watches.data ?? []).map((w) => (
          <li key={w.branches}>
            <span className="name">{w.branches}</span> every {span(w.look_us)}
            {w.brief ? <>, starts <Link to={`/briefs/${w.brief}`}>{w.brief}</Link></> : null}
            {w.looked_at ? <>, looked at <When at={w.looked_at} /></> : null}
            {may ? (
              <Button variant="link" size="sm" onClick={() => remove.mutate(w.branches)} disabled={remove.isPending} aria-label={`No longer watch ${w.branches}`}>
                No longer
              </Button>
            ) : null}
            {w.trouble ? <div className="tone-failed">◆ {plain(w.trouble)}. Next look <When at={w.next_look} />.</div> : null}
            {w.heads.slice(0, 3).map(([branch, commit, run]) => (
              <div key={commit + branch} className="under-figure">
                <span className="name">{branch}</span> <Commit of={commit} /> <Link to={`/runs/${run}`} className="name">{run}</Link>
              </div>
            ))}
          </li>
        ))}
      </ul>
      {may ? (
        <Form onSubmit={submit} className="park-form" aria-label="Watch branches">
          <Form.Control size="sm" className="name" required placeholder="main, release/*" aria-label="Branches" value={branches} onChange={(e) => setBranches(e.target.value)} />
          <Form.Control size="sm" className="name" required aria-label="How often" value={look} onChange={(e) => setLook(e.target.value)} />
          <Form.Select size="sm" aria-label="Brief" value={brief} onChange={(e) => setBrief(e.target.value)}>
            <option value="">the suite as it is</option>
            {(briefs.data ?? []).filter((b) => b.brief.suite === suite).map((b) => (
              <option key={b.name}>{b.name}</option>
            ))}
          </Form.Select>
          <Button type="submit" size="sm" variant="outline-primary" disabled={put.isPending}>
            Watch
          </Button>
        </Form>
      ) : null}
      <Alarm said={error?.message} />
    </section>
  );
}
