import { useState } from "react";
import { Button, Table } from "react-bootstrap";
import { Link, useNavigate, useParams } from "react-router";

import { type ScheduleOf, useMayOperate } from "../data/api";
import { usePauseSchedule, useRemoveSchedule, useSchedule, useScheduleNow } from "../data/starts";
import { Alarm } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { ScheduleForm } from "../parts/ScheduleForm";
import { What } from "../parts/Week";
import { Facts, When, plain } from "../parts/words";

export function SchedulePage() {
  const { schedule: name = "" } = useParams();
  const schedule = useSchedule(name);
  return (
    <DetailPage query={schedule} what={`the schedule ${name}`}>
      {(one) => <OneSchedule s={one} />}
    </DetailPage>
  );
}

function OneSchedule({ s }: { s: ScheduleOf }) {
  const [pause, now, remove] = [usePauseSchedule(), useScheduleNow(), useRemoveSchedule()];
  const [changing, setChanging] = useState(false);
  const navigate = useNavigate();
  const may = useMayOperate();
  const error = pause.error ?? now.error ?? remove.error;
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure name">{s.name}</h1>
        <p className="under-figure">
          {s.said}. {s.paused ? <span className="tone-parked">▭ It is paused: nothing starts.</span> : s.next_said ? `Next: ${s.next_said}.` : s.times.after_every ? "Next: after the run that goes now." : "Nothing more comes."}
        </p>
        <Alarm said={error?.message} />
        {changing ? <ScheduleForm key={JSON.stringify(s.times)} of={s} /> : null}
        <h2>What became of its planned starts</h2>
        {s.planned.length === 0 ? (
          <p className="under-figure">None was due yet.</p>
        ) : (
          <Table size="sm" hover className="dense">
            <thead>
              <tr>
                <th>Planned</th>
                <th>What</th>
                <th>Run</th>
                <th className="wide-only">Why</th>
              </tr>
            </thead>
            <tbody>
              {s.planned.map((p) => (
                <tr key={p.planned_at}>
                  <td>{p.planned_said}</td>
                  <td>
                    <What what={p.what} /> {p.what}
                    {p.count > 1 ? ` (${p.count} starts)` : ""}
                  </td>
                  <td>
                    {p.run ? (
                      <Link to={`/runs/${p.run}`} className="name">
                        <What what={p.what} verdict={p.verdict} /> {p.run}
                      </Link>
                    ) : null}
                  </td>
                  <td className="wide-only why">{plain(p.why)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
      </section>
      <aside>
        {may ? (
          <div className="actions">
            <Button size="sm" variant="outline-primary" disabled={now.isPending} onClick={() => now.mutate(s.name, { onSuccess: (run) => void navigate(`/runs/${run.name}`) })}>
              Start now
            </Button>
            <Button size="sm" variant="outline-primary" disabled={pause.isPending} onClick={() => pause.mutate({ name: s.name, paused: !s.paused })}>
              {s.paused ? "Go on" : "Pause"}
            </Button>
            <Button size="sm" variant="outline-primary" aria-expanded={changing} onClick={() => setChanging(!changing)}>
              {changing ? "Close" : "Change"}
            </Button>
            <Button size="sm" variant="outline-danger" disabled={remove.isPending} onClick={() => remove.mutate(s.name, { onSuccess: () => void navigate("/schedules") })}>
              Remove
            </Button>
          </div>
        ) : null}
        <Facts
          rows={[
            ["Brief", s.brief ? <Link key="b" to={`/briefs/${s.brief}`}>{s.brief}</Link> : null],
            ["Suite", s.suite ? <Link key="s" to={`/suites/${s.suite}`}>{s.suite}</Link> : null],
            ["Expression", s.times.cron ? <code key="c">{s.times.cron}</code> : null],
            ["If busy", s.times.if_busy],
            ["If missed", s.times.if_missed],
            ["Spread", s.times.spread],
            ["Until", s.times.until],
            ["Made", <span key="m"><When at={s.made_at} /> by {s.made_by}</span>],
          ]}
        />
      </aside>
    </div>
  );
}
