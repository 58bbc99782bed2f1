// What stands on every page: the water line of all slots, and the slim header with where you are.

import { useEffect, useState, type ReactNode } from "react";
import { Link, NavLink, useLocation, useNavigate } from "react-router";
import { Button } from "react-bootstrap";

import { call, useMe } from "../data/api";
import { useFloor } from "../data/floor";

function WaterLine() {
  const { workers } = useFloor();
  const navigate = useNavigate();
  const slots = workers.flatMap((w) => w.slots.map((slot) => ({ worker: w, slot })));
  if (slots.length === 0) {
    return <div className="water-line empty" title="There is no worker" />;
  }
  return (
    <div className="water-line" role="list" aria-label="All slots">
      {slots.map(({ worker, slot }) => {
        const busy = slot.run || slot.doing;
        const kind = !worker.connected ? "away" : slot.trouble && busy ? "trouble" : busy ? "busy" : "idle";
        const doing = slot.doing ? `${slot.doing}${slot.run ? ` (${slot.run})` : ""}` : (slot.run ?? "idle");
        return (
          <button
            key={`${worker.name}.${slot.number}`}
            type="button"
            role="listitem"
            className={`cell ${kind}`}
            title={`${worker.name}.${slot.number}: ${worker.connected ? doing : "away"}`}
            aria-label={`${worker.name} slot ${slot.number}: ${worker.connected ? doing : "away"}`}
            onClick={() => void navigate(slot.run ? `/runs/${slot.run}` : "/workers")}
          />
        );
      })}
    </div>
  );
}

function Crumbs() {
  const { pathname } = useLocation();
  const parts = pathname.split("/").filter(Boolean);
  const at = (i: number) => {
    // A run's suite leads to the suite.
    if (parts[0] === "runs" && i === 1) return `/suites/${parts[1]}`;
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
  const { linked } = useFloor();
  const [theme, turn] = useTheme();
  const leave = async () => {
    await call("/api/session", { method: "DELETE" });
    location.assign("/");
  };
  return (
    <>
      <WaterLine />
      <header className="head">
        <Link to="/" className="brand">
          Kesmo
        </Link>
        <Crumbs />
        <nav className="places" aria-label="Places">
          <NavLink to="/runs">Runs</NavLink>
          <NavLink to="/suites">Suites</NavLink>
          <NavLink to="/workers">Workers</NavLink>
          <NavLink to="/start">Start</NavLink>
        </nav>
        <span className="account">
          {linked ? null : <span className="tone-failed">not linked </span>}
          <Button size="sm" variant="link" onClick={turn} title="Light, dark, or as the system wishes">
            {theme}
          </Button>
          {me.data ? (
            <Button size="sm" variant="link" onClick={() => void leave()} title={`${me.data.role}; sign out`}>
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
      There is no such page. Go to the <Link to="/runs">runs</Link>.
    </Empty>
  );
}
