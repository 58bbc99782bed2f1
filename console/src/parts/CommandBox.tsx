// Finds suites, runs, tests and pages by what is typed; `/` brings one here from anywhere.

import { type KeyboardEvent, useEffect, useEffectEvent, useId, useRef, useState } from "react";
import { useNavigate } from "react-router";

import { useRuns, useSuites, useTests } from "../data/api";
import { useFloor } from "../data/floor";
import { glyphOf, stateOf } from "./states";

interface Found {
  to: string;
  text: string;
  kind: string;
}

const PAGES: Found[] = [
  { to: "/", text: "now", kind: "page" },
  { to: "/runs", text: "runs", kind: "page" },
  { to: "/suites", text: "suites", kind: "page" },
  { to: "/queue", text: "queue", kind: "page" },
  { to: "/briefs", text: "briefs", kind: "page" },
  { to: "/schedules", text: "schedules", kind: "page" },
  { to: "/webhooks", text: "webhooks", kind: "page" },
  { to: "/notices", text: "notices", kind: "page" },
  { to: "/pools", text: "pools", kind: "page" },
  { to: "/workers", text: "workers", kind: "page" },
  { to: "/start", text: "start a run", kind: "page" },
  { to: "/wall", text: "wall", kind: "page" },
];

export function CommandBox() {
  const [typed, setTyped] = useState("");
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const box = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const list = useId();
  const wanted = typed.trim().toLowerCase();
  const { found, reading } = useFound(wanted, open);
  // Enter before the lists are read goes on when they are: what is found so far need not be what is meant.
  const [entered, setEntered] = useState(false);
  useEffect(() => {
    const slash = (event: globalThis.KeyboardEvent) => {
      const into = event.target as HTMLElement;
      const typing = into.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(into.tagName);
      if (event.key === "/" && !typing && !event.ctrlKey && !event.metaKey) {
        event.preventDefault();
        box.current?.focus();
      }
    };
    document.addEventListener("keydown", slash);
    return () => document.removeEventListener("keydown", slash);
  }, []);
  useEffect(() => setAt(0), [wanted]);
  const leave = () => {
    setTyped("");
    setEntered(false);
    setOpen(false);
    box.current?.blur();
  };
  const go = (one: Found | undefined) => {
    if (!one) return;
    leave();
    void navigate(one.to);
  };
  const enter = useEffectEvent(() => go(found[at]));
  useEffect(() => {
    if (!entered || reading) return;
    setEntered(false);
    enter();
  }, [entered, reading]);
  const key = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (step) {
      event.preventDefault();
      setAt((n) => (n + step + found.length) % Math.max(found.length, 1));
    } else if (event.key === "Enter") {
      event.preventDefault();
      setEntered(true);
    } else if (event.key === "Escape") {
      leave();
    }
  };
  return (
    <div className="command-box" role="search">
      <input
        ref={box}
        type="text"
        role="combobox"
        className="form-control form-control-sm"
        placeholder="find: press /"
        aria-label="Find suites, runs and tests"
        aria-expanded={open && found.length > 0}
        aria-controls={list}
        aria-activedescendant={open && found[at] ? `${list}-${at}` : undefined}
        autoComplete="off"
        spellCheck={false}
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value);
          setEntered(false);
          setOpen(true);
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => {
          setEntered(false);
          setTimeout(() => setOpen(false), 150);
        }}
        onKeyDown={key}
      />
      <ul id={list} role="listbox" aria-label="Found" hidden={!open || (found.length === 0 && (wanted === "" || reading))}>
        {found.map((one, i) => (
          <li key={`${one.kind}${one.to}${one.text}`} id={`${list}-${i}`} role="option" aria-selected={i === at} onMouseDown={() => go(one)} onMouseEnter={() => setAt(i)}>
            <span className="name">{one.text}</span> <small>{one.kind}</small>
          </li>
        ))}
        {found.length === 0 && wanted !== "" ? (
          <li role="option" aria-selected={false} aria-disabled>
            nothing is called so
          </li>
        ) : null}
      </ul>
    </div>
  );
}

/** What is called so, and whether the lists that it is looked for in are still read. */
function useFound(wanted: string, open: boolean): { found: Found[]; reading: boolean } {
  const suites = useSuites();
  const runs = useRuns({ limit: 100 });
  const floor = useFloor();
  // Tests are looked for in the suite whose name is typed first, or in the first suite whose tests are known.
  const [first, ...rest] = wanted.split(/\s+/);
  const named = suites.data?.find((s) => s.name === first);
  const suite = named ?? suites.data?.find((s) => s.entries);
  const part = named ? rest.join(" ") : wanted;
  const escaped = part.replace(/[.*+?^${}()|[\]\\]/g, "\\$&");
  const tests = useTests(suite?.name ?? "", { pick: [`regex:(?i)${escaped}`] }, open && part.length >= 3 && Boolean(suite?.entries));
  const known = new Map((runs.data ?? []).map((run) => [run.name, run]));
  for (const [name, run] of floor.runs) known.set(name, run);
  const of = (text: string) => text.toLowerCase().includes(wanted);
  const found: Found[] = [
    ...PAGES.filter((page) => wanted !== "" && of(page.text)),
    ...(suites.data ?? []).filter((s) => of(s.name)).map((s) => ({ to: `/suites/${s.name}`, text: s.name, kind: "suite" })),
    ...[...known.values()]
      .filter((run) => of(run.name))
      .sort((a, b) => b.created_at.localeCompare(a.created_at))
      .slice(0, 6)
      .map((run) => ({ to: `/runs/${run.name}`, text: run.name, kind: `${glyphOf(stateOf(run))} ${stateOf(run)}` })),
    ...(part.length >= 3 && suite ? (tests.data?.tests ?? []).slice(0, 6) : []).map((test) => ({
      to: `/suites/${suite?.name}?test=${encodeURIComponent(test.name)}&variant=${encodeURIComponent(test.variant)}`,
      text: `${test.name}${test.variant ? ` ${test.variant}` : ""}`,
      kind: `test of ${suite?.name}`,
    })),
  ];
  const reading = suites.isPending || runs.isPending || (found.length === 0 && tests.isLoading);
  return { found: found.slice(0, 14), reading };
}
