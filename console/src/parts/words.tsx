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

/** How long something still takes, as the service says it elsewhere: `40 to 55 s`. Rounds as `TimeLeft::said` does. */
export function said(left: { low_us: number; high_us: number }): string {
  const [low0, high0] = [left.low_us / 1e6, left.high_us / 1e6];
  const [unit, size] = high0 < 99.5 ? ["s", 1] : high0 < 5970 ? ["m", 60] : ["h", 3600];
  const [low, high] = [low0 / size, high0 / size];
  const step = unit === "s" ? (high < 20 ? 1 : 5) : unit === "m" ? (high < 10 ? 0.5 : 1) : 0.1;
  const text = (v: number) => v.toFixed(1).replace(/\.0$/, "");
  const round = (v: number) => Math.round(v / step) * step;
  const [from, to] = [round(low), Math.ceil(high / step - 0.001) * step];
  if (unit === "s" && high <= 1) return "under 1 s";
  if (from <= 0) return `up to ${text(to)} ${unit}`;
  if (to - from <= step && high - low < step) return `about ${text(round((low + high) / 2))} ${unit}`;
  return `${text(from)} to ${text(Math.max(to, from + step))} ${unit}`;
}

/** What a test says, on a page: control characters and marks that turn the direction of text are shown as a dot. */
export function plain(text: string): string {
  return text.replace(/[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\u061c]/g, "·");
}

/** A text as a sentence begins. */
export const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

/** A number with three digits that count: `8,120`, `12.4`, `0.0123`. */
export function figure(value: number): string {
  if (value === 0) return "0";
  if (Math.abs(value) >= 1e9) return value.toExponential(2);
  return value.toLocaleString("en", Math.abs(value) >= 99.95 ? { maximumFractionDigits: 0 } : { maximumSignificantDigits: 3 });
}

/** A rate of results. */
export const rate = (perSecond: number) => (perSecond < 10 ? perSecond.toFixed(1) : perSecond.toFixed(0));

/** A moment as one reads it, with the exact value on hover. */
export function When({ at, ago }: { at: string; ago?: number }) {
  const exact = new Date(at);
  const offset = -exact.getTimezoneOffset();
  const zone = `${offset < 0 ? "-" : "+"}${String(Math.floor(Math.abs(offset) / 60)).padStart(2, "0")}:${String(Math.abs(offset) % 60).padStart(2, "0")}`;
  return (
    <time dateTime={at} title={`${exact.toLocaleString()} (UTC${zone}); ${at}`}>
      {ago === undefined ? moment(at) : before(ago - exact.getTime())}
    </time>
  );
}

/** How long ago something was. */
export function before(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 60) return "just now";
  if (s < 3600) return `${Math.floor(s / 60)} m ago`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ago`;
  return `${Math.floor(s / 86400)} d ago`;
}

export function moment(at: string): string {
  const d = new Date(at);
  const two = (n: number) => String(n).padStart(2, "0");
  const time = `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`;
  const today = new Date().toDateString() === d.toDateString();
  return today ? time : `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${time}`;
}

/** Which repetition of its test an entry is, or which part of its file. */
export function Nth({ of }: { of: { repeat: number; parts?: number } }) {
  if (of.repeat === 0) return null;
  return <small className="repeat">{of.parts ? `, part ${of.repeat} of ${of.parts}` : ` #${of.repeat}`}</small>;
}

/** A test's name, its first parts dimmed so that the last part leads. */
export function TestName({ name, variant }: { name: string; variant?: string | null }) {
  const shown = plain(name);
  const cut = shown.lastIndexOf("/") + 1;
  return (
    <bdi className="name">
      <span className="first-parts">{shown.slice(0, cut)}</span>
      {shown.slice(cut)}
      {variant ? <span className="variant"> {variant}</span> : null}
    </bdi>
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

/** An image and its digest, short; the whole digest is told where it is pointed at. */
export function Image({ of }: { of: { name: string; digest: string } }) {
  return (
    <span className="name" title={of.digest}>
      {plain(of.name)} <code>{of.digest.replace("sha256:", "").slice(0, 12)}</code>
    </span>
  );
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

/** How many cases there are, and those that are not as they should be. */
export function casesSaid(of: { passed: number; flaky: number; failed: number; skipped: number; parked: number }): string {
  const total = of.passed + of.flaky + of.failed + of.skipped + of.parked;
  const told = (["failed", "flaky", "skipped", "parked"] as const).filter((word) => of[word] > 0);
  const all = `${total.toLocaleString("en")} ${total === 1 ? "case" : "cases"}`;
  return told.length === 0 ? all : `${all}: ${told.map((word) => `${of[word].toLocaleString("en")} ${word}`).join(", ")}`;
}
