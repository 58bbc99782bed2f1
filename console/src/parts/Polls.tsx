// Branches of a suite that are polled, and a form to poll others.

import { type FormEvent, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router";

import { useMayOperate } from "../data/api";
import { useBriefs, usePutPoll, useRemovePoll, usePolls } from "../data/starts";
import { Alarm } from "./Frame";
import { Commit } from "./Origin";
import { When, plain, span } from "./words";

export function Polls({ suite }: { suite: string }) {
  const polls = usePolls(suite, true);
  const briefs = useBriefs();
  const [put, remove] = [usePutPoll(suite), useRemovePoll(suite)];
  const [branches, setBranches] = useState("");
  const [every, setEvery] = useState("1m");
  const [brief, setBrief] = useState("");
  const may = useMayOperate();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    put.mutate({ branches, every, brief: brief || null }, { onSuccess: () => setBranches("") });
  };
  const error = put.error ?? remove.error ?? polls.error;
  return (
    <section className="parks" aria-label="Polled branches">
      <h2>Polled branches</h2>
      {polls.data?.length === 0 ? <p className="under-figure">None: a new commit starts nothing by itself.</p> : null}
      <ul>
        {(polls.data ?? []).map((w) => (
          <li key={w.branches}>
            <span className="name">{w.branches}</span> every {span(w.every_us)}
            {w.brief ? <>, starts <Link to={`/briefs/${w.brief}`}>{w.brief}</Link></> : null}
            {w.looked_at ? <>, looked at <When at={w.looked_at} /></> : null}
            {may ? (
              <Button variant="link" size="sm" onClick={() => remove.mutate(w.branches)} disabled={remove.isPending} aria-label={`No longer poll ${w.branches}`}>
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
          <Form.Control size="sm" className="name" required aria-label="How often" value={every} onChange={(e) => setEvery(e.target.value)} />
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
