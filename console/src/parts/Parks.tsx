// Tests of a suite that are set aside, and a form to set others aside.

import { type FormEvent, useState } from "react";
import { Button, Form } from "react-bootstrap";

import { type Park, useMayOperate, usePark, useUnpark } from "../data/api";
import { Alarm } from "./Frame";

/** The day in two weeks, as a date field takes it. */
const inTwoWeeks = () => new Date(Date.now() + 14 * 86400e3).toISOString().slice(0, 10);

export function Parks({ suite, parks }: { suite: string; parks: Park[] }) {
  const park = usePark(suite);
  const unpark = useUnpark(suite);
  const [pattern, setPattern] = useState("");
  const [until, setUntil] = useState(inTwoWeeks);
  const [why, setWhy] = useState("");
  const [only, setOnly] = useState("");
  const may = useMayOperate();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const places = only.split(/[\s,]+/).filter(Boolean);
    park.mutate({ pattern, until, why, only: places }, { onSuccess: () => { setPattern(""); setWhy(""); setOnly(""); } });
  };
  const error = park.error ?? unpark.error;
  return (
    <section className="parks">
      <h2>Parked tests</h2>
      {parks.length === 0 ? <p className="under-figure">None is set aside.</p> : null}
      <ul>
        {parks.map((one) => (
          <li key={one.pattern}>
            <span className={one.over ? "tone-not-run" : "tone-parked"}>▭</span> <span className="name">{one.pattern}</span>{" "}
            {one.over ? `over since ${one.until}: it counts again` : `until ${one.until}`}. {one.only ? <>Only where <span className="name">{one.only}</span>. </> : null}{one.why} <small>{one.by}</small>
            {may ? (
              <Button variant="link" size="sm" onClick={() => unpark.mutate(one.pattern)} disabled={unpark.isPending}>
                Take back
              </Button>
            ) : null}
          </li>
        ))}
      </ul>
      {may ? (
        <Form onSubmit={submit} className="park-form" aria-label="Park tests">
          <Form.Control size="sm" className="name" required placeholder="a test or a pattern" aria-label="Test or pattern" value={pattern} onChange={(e) => setPattern(e.target.value)} />
          <Form.Control size="sm" type="date" required aria-label="Until" value={until} onChange={(e) => setUntil(e.target.value)} />
          <Form.Control size="sm" required placeholder="why" aria-label="Why" value={why} onChange={(e) => setWhy(e.target.value)} />
          <Form.Control size="sm" className="name" placeholder="everywhere, or env=ci" aria-label="Where it holds" title="env=NAME, pool=NAME, branch=GLOB or variant=FACET=VALUE" value={only} onChange={(e) => setOnly(e.target.value)} />
          <Button type="submit" size="sm" variant="outline-primary" disabled={park.isPending}>
            Park
          </Button>
        </Form>
      ) : null}
      <Alarm said={error?.message} />
    </section>
  );
}
