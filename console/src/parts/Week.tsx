// A week of starts: an hour a cell, with how many there are, what they take together, and how those went that were.

import { useState } from "react";
import { Link } from "react-router";

import type { Calendar, CalendarStart } from "../data/api";
import { glyphOf, toneOf } from "./states";
import { moment, span } from "./words";

const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const two = (n: number) => String(n).padStart(2, "0");

const WHAT: Record<string, [string, string]> = {
  started: ["≈", "tone-running"],
  waiting: ["–", "tone-not-run"],
  skipped: ["▽", "tone-skipped"],
  missed: ["◌", "tone-not-run"],
  refused: ["⊘", "tone-void"],
};

/** The glyph of what became of a start. */
export function What({ what, verdict }: { what: string; verdict?: string | null }) {
  const [glyph, tone] = verdict ? [glyphOf(verdict), toneOf(verdict)] : (WHAT[what] ?? ["", ""]);
  return (
    <span className={tone} title={verdict ?? what}>
      {glyph}
    </span>
  );
}

/** Midnight of the Monday of a moment's week, on this clock. */
export function mondayOf(at: Date): Date {
  const day = new Date(at.getFullYear(), at.getMonth(), at.getDate());
  day.setDate(day.getDate() - ((day.getDay() + 6) % 7));
  return day;
}

const keyOf = (at: Date) => `${at.getMonth()}-${at.getDate()}-${at.getHours()}`;

export function Week({ calendar, monday }: { calendar: Calendar; monday: Date }) {
  const [chosen, setChosen] = useState<string | null>(null);
  const cells = new Map<string, CalendarStart[]>();
  for (const start of calendar.starts) {
    const key = keyOf(new Date(start.at));
    cells.set(key, [...(cells.get(key) ?? []), start]);
  }
  const load = new Map<string, [number, number]>();
  const from = Date.parse(calendar.from);
  calendar.hours.forEach(([count, takes], i) => {
    const key = keyOf(new Date(from + i * 3600e3));
    const before = load.get(key) ?? [0, 0];
    load.set(key, [before[0] + count, before[1] + takes]);
  });
  const most = Math.max(1, ...[...load.values()].map(([, takes]) => takes));
  const days = Array.from({ length: 7 }, (_, i) => new Date(monday.getFullYear(), monday.getMonth(), monday.getDate() + i));
  const now = new Date();
  const shown = chosen ? (cells.get(chosen) ?? []) : [];
  return (
    <>
      <div className="week" role="table" aria-label="Starts of the week, by hour">
        <div role="row" className="week-row">
          <span role="columnheader" className="week-hour">
            <span className="visually-hidden">hour</span>
          </span>
          {days.map((day) => (
            <span key={day.getTime()} role="columnheader" className={day.toDateString() === now.toDateString() ? "week-head today" : "week-head"}>
              {DAYS[day.getDay()]} {day.getDate()}.
            </span>
          ))}
        </div>
        {Array.from({ length: 24 }, (_, hour) => (
          <div role="row" className="week-row" key={hour}>
            <span role="rowheader" className="week-hour">
              {two(hour)}
            </span>
            {days.map((day) => {
              const at = new Date(day.getFullYear(), day.getMonth(), day.getDate(), hour);
              const key = keyOf(at);
              const starts = cells.get(key) ?? [];
              const [coming, takes] = load.get(key) ?? [0, 0];
              const past = starts.filter((s) => s.what);
              const count = past.length + coming;
              const isNow = key === keyOf(now) && at.getFullYear() === now.getFullYear();
              return (
                <span role="cell" key={key} className={isNow ? "week-cell now" : "week-cell"}>
                  {count > 0 ? (
                    <button type="button" aria-pressed={chosen === key} onClick={() => setChosen(chosen === key ? null : key)} aria-label={`${DAYS[day.getDay()]} ${two(hour)}:00: ${count} ${count === 1 ? "start" : "starts"}`} title={`${count} ${count === 1 ? "start" : "starts"}${takes > 0 ? `, about ${span(takes)} of one slot` : ""}`}>
                      <span className="week-load" style={{ width: `${Math.round((takes / most) * 100)}%` }} />
                      <span className="week-glyphs">
                        {past.slice(0, 4).map((s, i) => (
                          <What key={`${s.schedule}-${s.at}-${i}`} what={s.what ?? ""} verdict={s.verdict} />
                        ))}
                      </span>
                      <span className="week-count">{coming > 0 ? coming : past.length > 4 ? past.length : ""}</span>
                    </button>
                  ) : null}
                </span>
              );
            })}
          </div>
        ))}
      </div>
      {chosen ? (
        <ul className="week-starts" aria-label="Starts of that hour">
          {shown.slice(0, 80).map((s, i) => (
            <li key={`${s.schedule}-${s.at}-${i}`}>
              <time dateTime={s.at}>{moment(s.at)}</time> <Link to={`/schedules/${s.schedule}`} className="name">{s.schedule}</Link>{" "}
              {s.what ? <What what={s.what} verdict={s.verdict} /> : <span className="under-figure">to come</span>} {s.run ? <Link to={`/runs/${s.run}`} className="name">{s.run}</Link> : s.what && s.what !== "started" ? s.what : null}
            </li>
          ))}
          {shown.length > 80 ? <li className="under-figure">and {shown.length - 80} more</li> : null}
          {shown.length === 0 ? <li className="under-figure">There are too many starts in this week to name these.</li> : null}
        </ul>
      ) : null}
    </>
  );
}
