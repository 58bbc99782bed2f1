// What stands on every page: the water line of all slots, and the slim header with where you are.

import { useEffect, useState, type ReactNode } from "react";
import { Link, NavLink, useLocation, useNavigate } from "react-router";
import { Button } from "react-bootstrap";

import { api, told, useLimited, useMe } from "../data/api";
import { useFloor } from "../data/floor";
import { CommandBox } from "./CommandBox";
import { plain } from "./words";

function WaterLine() {
  const { workers } = useFloor();
  const navigate = useNavigate();
  const slots = workers.flatMap((w) => w.slots.map((slot) => ({ worker: w, slot })));
  if (slots.length === 0) {
    return <div className="water-line empty" title="There is no worker" />;
  }
  return (
    <nav className="water-line" aria-label="All slots">
      {slots.map(({ worker, slot }) => {
        const busy = slot.run || slot.doing;
        const kind = !worker.connected ? "away" : slot.trouble && busy ? "trouble" : busy ? "busy" : "idle";
        const doing = slot.doing ? `${slot.doing}${slot.run ? ` (${slot.run})` : ""}` : (slot.run ?? "idle");
        return (
          <button
            key={`${worker.name}.${slot.number}`}
            type="button"
            className={`cell ${kind}`}
            title={`${worker.name}.${slot.number}: ${worker.connected ? doing : "away"}`}
            aria-label={`${worker.name} slot ${slot.number}: ${worker.connected ? doing : "away"}`}
            onClick={() => void navigate(slot.run ? `/runs/${slot.run}` : "/workers")}
          />
        );
      })}
    </nav>
  );
}

function Crumbs() {
  const { pathname } = useLocation();
  const parts = pathname.split("/").filter(Boolean);
  const at = (i: number) => {
    // A run's suite leads to the suite, and its tests are on its page.
    if (parts[0] === "runs" && i === 1) return `/suites/${parts[1]}`;
    if (parts[0] === "runs" && i === 3) return `/runs/${parts[1]}/${parts[2]}`;
    return `/${parts.slice(0, i + 1).join("/")}`;
  };
  return (
    <nav className="crumbs" aria-label="Where you are">
      {parts.map((part, i) => (
        <span key={at(i)}>
          {" / "}
          <Link to={at(i)}>{part}</Link>
        </span>
      ))}
    </nav>
  );
}

type Theme = "light" | "dark" | "system";

function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState<Theme>(() => (localStorage.getItem("kesmo-theme") as Theme) ?? "system");
  useEffect(() => {
    const dark = matchMedia("(prefers-color-scheme: dark)");
    const apply = () => {
      const shown = theme === "system" ? (dark.matches ? "dark" : "light") : theme;
      document.documentElement.dataset.bsTheme = shown;
    };
    apply();
    localStorage.setItem("kesmo-theme", theme);
    dark.addEventListener("change", apply);
    return () => dark.removeEventListener("change", apply);
  }, [theme]);
  const next: Record<Theme, Theme> = { system: "light", light: "dark", dark: "system" };
  return [theme, () => setTheme(next[theme])];
}

export function Frame({ children }: { children: ReactNode }) {
  const me = useMe();
  const limited = useLimited();
  const { linked, seen } = useFloor();
  const [theme, turn] = useTheme();
  const leave = async () => {
    await told(api.DELETE("/api/session"));
    location.assign("/");
  };
  // The wall is looked at from afar: there is nothing to click.
  if (useLocation().pathname === "/wall") {
    return (
      <>
        <WaterLine />
        <main className="page">{children}</main>
      </>
    );
  }
  return (
    <>
      <WaterLine />
      <header className="head">
        <Link to="/" className="brand">
          Kesmo
        </Link>
        <Crumbs />
        <CommandBox />
        <nav className="places" aria-label="Places">
          <NavLink to="/" end>
            Now
          </NavLink>
          <NavLink to="/runs">Runs</NavLink>
          <NavLink to="/queue">Queue</NavLink>
          <NavLink to="/suites">Suites</NavLink>
          <NavLink to="/flaky">Flaky</NavLink>
          <NavLink to="/briefs">Briefs</NavLink>
          <NavLink to="/schedules">Schedules</NavLink>
          {limited ? null : (
            <>
              <NavLink to="/webhooks">Webhooks</NavLink>
              <NavLink to="/notices">Notices</NavLink>
              <NavLink to="/pools">Pools</NavLink>
            </>
          )}
          <NavLink to="/workers">Workers</NavLink>
          <NavLink to="/service">Service</NavLink>
          <NavLink to="/wall">Wall</NavLink>
          <NavLink to="/start">Start</NavLink>
        </nav>
        <span className="account">
          <NavLink to="/docs" className="help" aria-label="Docs" title="Docs">
            ?
          </NavLink>
          <span role="status">{linked || !seen ? null : <span className="tone-failed">↯ connection lost; reconnecting </span>}</span>
          <Button size="sm" variant="link" onClick={turn} title="Light, dark, or as the system wishes" aria-label={`Looks: ${theme}; change`}>
            {theme}
          </Button>
          {me.data ? (
            <Button size="sm" variant="link" onClick={() => void leave()} title={`${me.data.role}; sign out`} aria-label={`${me.data.name}, ${me.data.role}: sign out`}>
              {me.data.name}
            </Button>
          ) : null}
        </span>
      </header>
      <main className="page">{children}</main>
    </>
  );
}

export function Empty({ children }: { children: ReactNode }) {
  return <div className="empty-page">{children}</div>;
}

/** While something is fetched. It says so only when that takes a while, so that pages do not flicker. */
export function Loading({ what }: { what: string }) {
  return (
    <div className="empty-page loading" role="status">
      Reading {what} …
    </div>
  );
}

/** The stream of what is shown was cut. */
export function Cut() {
  return (
    <p role="status" className="cut">
      <span className="tone-failed">↯</span> Connection lost; reconnecting. What is shown may be old.
    </p>
  );
}

/** What went wrong with something that was asked for here; nothing if nothing did. */
export function Alarm({ said }: { said: string | undefined }) {
  return said ? (
    <p role="alert" className="tone-failed">
      ◆ {plain(said)}
    </p>
  ) : null;
}

export function Trouble({ error }: { error: Error }) {
  return (
    <div className="empty-page" role="alert">
      <span className="tone-failed">◆</span> {error.message}
    </div>
  );
}

export function NothingHere() {
  return (
    <Empty>
      <h1 className="figure">There is no such page</h1>
      Go to <Link to="/">what goes on now</Link>.
    </Empty>
  );
}
