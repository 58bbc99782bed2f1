import { useState } from "react";
import { Button, Table } from "react-bootstrap";
import { Link } from "react-router";

import { useMayOperate } from "../data/api";
import { useCalendar, useSchedules } from "../data/starts";
import { Loading, Trouble } from "../parts/Frame";
import { ListPage } from "../parts/Pages";
import { ScheduleForm } from "../parts/ScheduleForm";
import { Week, mondayOf } from "../parts/Week";
import { State, stateOf } from "../parts/states";

export function SchedulesPage() {
  const schedules = useSchedules();
  const [away, setAway] = useState(0);
  const [making, setMaking] = useState(false);
  const may = useMayOperate();
  const monday = mondayOf(new Date());
  monday.setDate(monday.getDate() + 7 * away);
  const end = new Date(monday.getFullYear(), monday.getMonth(), monday.getDate() + 7);
  const calendar = useCalendar(monday.toISOString(), end.toISOString());
  const form = may ? (
    <section>
      <p>
        <Button size="sm" variant="outline-primary" aria-expanded={making} onClick={() => setMaking(!making)}>
          {making ? "Close" : "Make a schedule"}
        </Button>
      </p>
      {making ? <ScheduleForm /> : null}
    </section>
  ) : null;
  const next = [...(schedules.data ?? [])].filter((s) => s.next).sort((a, b) => (a.next ?? "").localeCompare(b.next ?? ""))[0];
  return (
    <ListPage
      query={schedules}
      what="the schedules"
      one="schedule"
      none={
        <>
          <h1 className="figure">Nothing is scheduled</h1>
          In a terminal: <code>kesmo schedule add nightly --cron "15 2 * * 1-5" --zone Europe/Oslo --brief BRIEF</code>
        </>
      }
      before={form}
    >
      {(all) => (
    <>
      <p className="under-figure">
        {next ? (
          <>
            Next: <Link to={`/schedules/${next.name}`}>{next.name}</Link>, {next.next_said}
          </>
        ) : (
          "Nothing starts by itself now."
        )}
      </p>
      <div className="schedule-columns">
        <section aria-label="Week">
          <div className="filters">
            <button type="button" className="filter" onClick={() => setAway(away - 1)} aria-label="The week before">
              ←
            </button>
            <button type="button" className="filter" aria-pressed={away === 0} onClick={() => setAway(0)}>
              This week
            </button>
            <button type="button" className="filter" onClick={() => setAway(away + 1)} aria-label="The week after">
              →
            </button>
            <span className="under-figure">{calendar.data ? `${calendar.data.total} starts, on this browser's clock; the bar is what their runs take` : ""}</span>
          </div>
          {calendar.error ? <Trouble error={calendar.error} /> : calendar.data ? <Week calendar={calendar.data} monday={monday} /> : <Loading what="the week" />}
        </section>
        <section aria-label="Schedules">
          <Table size="sm" hover className="dense">
            <thead>
              <tr>
                <th>Schedule</th>
                <th>Last run</th>
                <th>Next start</th>
              </tr>
            </thead>
            <tbody>
              {all.map((s) => (
                <tr key={s.name}>
                  <td>
                    <Link to={`/schedules/${s.name}`} className="name">
                      {s.name}
                    </Link>
                    <div className="why">{s.said}</div>
                  </td>
                  <td>
                    {s.last_run ? (
                      <Link to={`/runs/${s.last_run.name}`} className="plain">
                        <State of={stateOf(s.last_run)} />
                      </Link>
                    ) : (
                      "–"
                    )}
                  </td>
                  <td>{s.paused ? <span className="tone-parked">▭ paused</span> : (s.next_said ?? (s.times.after_every ? "after its run" : "none"))}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </section>
      </div>
    </>
      )}
    </ListPage>
  );
}
