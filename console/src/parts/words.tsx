// How times, sizes and names are written.

import { type ReactNode, useEffect, useState } from "react";

export function span(us: number | null | undefined): string {
  if (us === null || us === undefined) return "–";
  const s = us / 1e6;
  if (us === 0) return "0 s";
  if (s < 0.01) return `${(s * 1e3).toFixed(1)} ms`;
  if (s < 0.9995) return `${(s * 1e3).toFixed(0)} ms`;
  if (s < 9.95) return `${s.toFixed(1)} s`;
  if (s < 59.5) return `${s.toFixed(0)} s`;
  const whole = Math.round(s);
  const two = (n: number) => String(n).padStart(2, "0");
  const [h, m] = [Math.floor(whole / 3600), Math.floor(whole / 60) % 60];
  return h > 0 ? `${h} h ${two(m)} m` : `${m} m ${two(whole % 60)} s`;
}

export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  if (bytes < 1024 ** 2) return `${(bytes / 1024).toFixed(1)} KiB`;
  return `${(bytes / 1024 ** 2).toFixed(1)} MiB`;
}

export function moment(at: string): string {
  const d = new Date(at);
  const two = (n: number) => String(n).padStart(2, "0");
  const time = `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`;
  const today = new Date().toDateString() === d.toDateString();
  return today ? time : `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${time}`;
}

/** A test's name, its first parts dimmed so that the last part leads. */
export function TestName({ name, variant }: { name: string; variant?: string | null }) {
  const cut = name.lastIndexOf("/") + 1;
  return (
    <span className="name">
      <span className="first-parts">{name.slice(0, cut)}</span>
      {name.slice(cut)}
      {variant ? <span className="variant"> {variant}</span> : null}
    </span>
  );
}

/** The time, every second. */
export function useNow(ticking: boolean) {
  const [now, setNow] = useState(Date.now);
  useEffect(() => {
    if (!ticking) return;
    const timer = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(timer);
  }, [ticking]);
  return now;
}

export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl className="facts">
      {rows
        .filter(([, value]) => value !== null && value !== undefined && value !== "" && !(Array.isArray(value) && value.length === 0))
        .map(([head, value]) => (
          <div key={head}>
            <dt>{head}</dt>
            <dd>{value}</dd>
          </div>
        ))}
    </dl>
  );
}
