// A form for a schedule: as it is typed, it says when it would start.

import { type FormEvent, useDeferredValue, useState } from "react";
import { Button, Col, Form, Row } from "react-bootstrap";
import { useNavigate } from "react-router";

import { type ScheduleOf, type Times, useSuites } from "../data/api";
import { type NewSchedule, useBriefs, usePreview, usePutSchedule } from "../data/starts";
import { Alarm } from "./Frame";
import { capital, plain } from "./words";

/** The zone of this browser, as a proposal. */
const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";

export function ScheduleForm({ of }: { of?: ScheduleOf }) {
  const briefs = useBriefs();
  const suites = useSuites();
  const put = usePutSchedule();
  const navigate = useNavigate();
  const t = of?.times;
  const [name, setName] = useState(of?.name ?? "");
  const [starts, setStarts] = useState(of ? (of.brief ? `brief ${of.brief}` : `suite ${of.suite}`) : "");
  const [kind, setKind] = useState<"cron" | "at" | "after_every">(t?.at ? "at" : t?.after_every ? "after_every" : "cron");
  const [when, setWhen] = useState(t?.cron ?? t?.at ?? t?.after_every ?? "15 2 * * 1-5");
  const [zone, setZone] = useState(t?.zone ?? HERE);
  const [spread, setSpread] = useState(t?.spread ?? "");
  const [until, setUntil] = useState(t?.until ?? "");
  const [busy, setBusy] = useState<Times["if_busy"]>(t?.if_busy ?? "skip");
  const [missed, setMissed] = useState<Times["if_missed"]>(t?.if_missed ?? "run-once");
  const choices = [...(briefs.data ?? []).map((b) => `brief ${b.name}`), ...(suites.data ?? []).map((s) => `suite ${s.name}`)];
  const chosen = starts || choices[0] || "";
  const [what, which = ""] = chosen.split(" ");
  const times: Partial<Times> = { [kind]: when.trim(), zone, if_busy: busy, if_missed: missed, spread: spread.trim() || null, until: until || null };
  const made: NewSchedule = { name: name || "new", [what]: which, times, changes: of?.changes, replace: of !== undefined };
  const rested = JSON.parse(useDeferredValue(JSON.stringify(made))) as NewSchedule;
  const preview = usePreview(rested, which !== "");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    put.mutate(made, { onSuccess: (saved) => void navigate(`/schedules/${saved.name}`) });
  };
  const examples = { cron: "15 2 * * 1-5", at: "2026-12-24 18:00", after_every: "5m" };
  return (
    <Form onSubmit={submit} className="schedule-form start" aria-label={of ? "Change the schedule" : "A new schedule"}>
      <div>
        <Row>
          {of ? null : (
            <Form.Group as={Col} md={5} className="mb-2" controlId="schedule-name">
              <Form.Label>Name</Form.Label>
              <Form.Control required className="name" value={name} onChange={(e) => setName(e.target.value)} placeholder="nightly" pattern="[a-z0-9][a-z0-9\-]*" title="a-z, 0-9 and '-'" />
            </Form.Group>
          )}
          <Form.Group as={Col} md={7} className="mb-2" controlId="schedule-starts">
            <Form.Label>Starts</Form.Label>
            <Form.Select value={chosen} onChange={(e) => setStarts(e.target.value)}>
              {choices.map((one) => (
                <option key={one}>{one}</option>
              ))}
            </Form.Select>
          </Form.Group>
        </Row>
        <Row>
          <Form.Group as={Col} xs={5} className="mb-2" controlId="schedule-kind">
            <Form.Label>When</Form.Label>
            <Form.Select value={kind} onChange={(e) => { const k = e.target.value as typeof kind; setKind(k); setWhen(examples[k]); }}>
              <option value="cron">cron expression</option>
              <option value="at">once, at</option>
              <option value="after_every">after every run, by</option>
            </Form.Select>
          </Form.Group>
          <Form.Group as={Col} xs={7} className="mb-2" controlId="schedule-when">
            <Form.Label>{kind === "cron" ? "Minute, hour, day, month, weekday" : kind === "at" ? "Time of the zone's clock" : "Pause"}</Form.Label>
            <Form.Control required className="name" value={when} onChange={(e) => setWhen(e.target.value)} placeholder={examples[kind]} />
          </Form.Group>
        </Row>
        <Row>
          <Form.Group as={Col} xs={5} className="mb-2" controlId="schedule-zone">
            <Form.Label>Zone</Form.Label>
            <Form.Control className="name" value={zone} onChange={(e) => setZone(e.target.value)} placeholder="Europe/Oslo" />
          </Form.Group>
          <Form.Group as={Col} xs={3} className="mb-2" controlId="schedule-spread">
            <Form.Label>Spread</Form.Label>
            <Form.Control className="name" value={spread} onChange={(e) => setSpread(e.target.value)} placeholder="10m" disabled={kind !== "cron"} />
          </Form.Group>
          <Form.Group as={Col} xs={4} className="mb-2" controlId="schedule-until">
            <Form.Label>Last day</Form.Label>
            <Form.Control type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
          </Form.Group>
        </Row>
        <Row>
          <Form.Group as={Col} xs={6} className="mb-3" controlId="schedule-busy">
            <Form.Label>If its last run still goes</Form.Label>
            <Form.Select value={busy} onChange={(e) => setBusy(e.target.value as Times["if_busy"])}>
              <option value="skip">skip the start</option>
              <option value="wait">wait for it</option>
              <option value="stop-old">stop it</option>
            </Form.Select>
          </Form.Group>
          <Form.Group as={Col} xs={6} className="mb-3" controlId="schedule-missed">
            <Form.Label>If no service was there</Form.Label>
            <Form.Select value={missed} onChange={(e) => setMissed(e.target.value as Times["if_missed"])}>
              <option value="run-once">run once for all</option>
              <option value="forget">forget it</option>
            </Form.Select>
          </Form.Group>
        </Row>
        <Alarm said={put.error?.message} />
        <Button type="submit" disabled={put.isPending || preview.isError}>
          Save
        </Button>
      </div>
      <div className="preview" role="status" aria-label="When it would start">
        {preview.error ? (
          <p className="tone-failed">◆ {plain(preview.error.message)}</p>
        ) : preview.data ? (
          <>
            <p>
              <strong>{capital(preview.data.said)}</strong>
            </p>
            <ol>
              {preview.data.next_said.map((said) => (
                <li key={said}>{said}</li>
              ))}
            </ol>
            {preview.data.warnings.map((warning) => (
              <p key={warning} className="tone-flaky">
                ◐ {plain(warning)}
              </p>
            ))}
          </>
        ) : which === "" ? (
          <p className="under-figure">There is no brief and no suite to start yet.</p>
        ) : null}
      </div>
    </Form>
  );
}
