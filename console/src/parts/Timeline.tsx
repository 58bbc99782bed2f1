// What each slot of a run did when. Drawn on a canvas, as a run may have very many attempts; a table behind it says the same.

import { type KeyboardEvent, type MouseEvent, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";

import { type Block, type CaseMark, type Timeline as Times, useTimeline } from "../data/api";
import { glyphOf } from "./states";
import { plain, span } from "./words";

const LANE = 16;
const LABEL = 110;
const AXIS = 22;
/** Lanes that are drawn; more are in the table. */
const MOST_LANES = 64;
/** Links between retries that are all drawn. */
const MOST_LINKS = 16;

const toneOfBlock = (block: Pick<Block, "ended" | "outcome">) => {
  if (block.outcome === "failed") return "failed";
  if (block.outcome === "flaky") return "flaky";
  if (block.outcome === "parked") return "parked";
  if (block.ended === "failed" || block.ended === "timed-out" || block.ended === "crashed") return "failed";
  if (block.ended === "lost") return "not-run";
  return block.ended === "skipped" ? "skipped" : "passed";
};

/** `every`: while the run goes on the timeline is asked for again after so many seconds. */
export function Timeline({ run, version, every, over }: { run: string; version: number; every: number; over: boolean }) {
  const [between, setBetween] = useState<[number, number] | null>(null);
  // While it runs it is asked again now and then; what slots do at this moment stands in the list of slots.
  const times = useTimeline(run, between, over ? -1 : Math.floor(version / every));
  if (times.error) return <p className="under-figure">No timeline: {times.error.message}</p>;
  if (!times.data || times.data.lanes.length === 0) return null;
  return <Drawn run={run} times={times.data} zoomed={between !== null} onZoom={setBetween} over={over} />;
}

interface DrawnProps {
  run: string;
  times: Times;
  zoomed: boolean;
  over: boolean;
  onZoom: (between: [number, number] | null) => void;
}

function Drawn({ run, times, zoomed, over, onZoom }: DrawnProps) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  const [theme, setTheme] = useState(0);
  const [at, setAt] = useState<{ block: Block; mark?: CaseMark; x: number; y: number } | null>(null);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const navigate = useNavigate();
  const pointed = at?.block.count === 1 ? at.block.entry : undefined;
  const links = useMemo(() => linksOf(times), [times]);
  const marks = useMemo(() => marksOf(times), [times]);
  const lanes = times.lanes.slice(0, MOST_LANES);
  const height = lanes.length * LANE + AXIS;
  const whole = Math.max(times.to_us - times.from_us, 1);
  const x = (us: number) => LABEL + ((us - times.from_us) / whole) * (width - LABEL - 4);
  const timeAt = (px: number) => times.from_us + (Math.min(Math.max(px - LABEL, 0), width - LABEL - 4) / (width - LABEL - 4)) * whole;

  useEffect(() => {
    const seen = new ResizeObserver(([entry]) => setWidth(Math.max(320, Math.floor(entry.contentRect.width))));
    if (box.current) seen.observe(box.current);
    const themed = new MutationObserver(() => setTheme((n) => n + 1));
    themed.observe(document.documentElement, { attributes: true, attributeFilter: ["data-bs-theme"] });
    return () => {
      seen.disconnect();
      themed.disconnect();
    };
  }, []);

  useEffect(() => {
    const c = canvas.current?.getContext("2d");
    if (!c || !canvas.current) return;
    const ratio = window.devicePixelRatio || 1;
    canvas.current.width = width * ratio;
    canvas.current.height = height * ratio;
    c.scale(ratio, ratio);
    const style = getComputedStyle(document.documentElement);
    const colour = (name: string) => style.getPropertyValue(`--${name}`).trim();
    c.clearRect(0, 0, width, height);
    c.font = `12px ${style.getPropertyValue("--bs-font-monospace") || "monospace"}`;
    c.textBaseline = "middle";
    lanes.forEach(([worker, slot], lane) => {
      c.fillStyle = colour("water");
      c.fillRect(LABEL, lane * LANE + 2, width - LABEL - 4, LANE - 4);
      c.fillStyle = colour("dim");
      const name = `${worker}.${slot}`;
      c.fillText(name.length > 15 ? `…${name.slice(-14)}` : name, 0, lane * LANE + LANE / 2);
    });
    if (times.tail) {
      c.fillStyle = colour("void");
      c.globalAlpha = 0.12;
      c.fillRect(x(Math.max(times.tail.from_us, times.from_us)), 0, x(Math.min(times.tail.to_us, times.to_us)) - x(Math.max(times.tail.from_us, times.from_us)), lanes.length * LANE);
      c.globalAlpha = 1;
    }
    for (const block of times.blocks) {
      if (block.lane >= lanes.length) continue;
      const tone = toneOfBlock(block);
      const [left, right] = [Math.max(x(block.from_us), LABEL), Math.min(x(block.to_us), width - 4)];
      const wide = Math.max(right - left - (right - left > 4 ? 1 : 0), 1.5);
      const top = block.lane * LANE + (tone === "failed" ? 1 : 3);
      const tall = LANE - (tone === "failed" ? 2 : 6);
      c.fillStyle = colour(tone);
      c.fillRect(left, top, wide, tall);
      if (tone === "flaky") {
        // Hatched, so that it is told from others without its colour.
        c.strokeStyle = colour("ground");
        c.beginPath();
        for (let stripe = left; stripe < left + wide; stripe += 4) {
          c.moveTo(stripe, top + tall);
          c.lineTo(Math.min(stripe + 4, left + wide), top);
        }
        c.stroke();
      }
      const inside = block.count === 1 ? marks.get(keyOf(block)) : undefined;
      if (tone === "failed" && wide > 12 && !inside) {
        c.fillStyle = colour("ground");
        c.fillText("◆", left + 2, block.lane * LANE + LANE / 2);
      }
      // A file's own outcome stays as its frame; its cases stand in it one beside the other, what failed as high as the frame.
      for (const mark of inside ?? []) {
        const [begin, end] = [Math.max(x(mark.from_us), left), Math.min(x(mark.to_us), right)];
        if (end < left || begin > right) continue;
        const own = toneOfBlock(mark);
        const across = Math.max(end - begin - 1, 1.5);
        c.fillStyle = colour("ground");
        c.fillRect(begin, top + 2, across + 1, tall - 4);
        c.fillStyle = colour(own);
        c.fillRect(begin, own === "failed" ? top : top + 2, across, own === "failed" ? tall : tall - 4);
        if (own === "failed" && across > 10) {
          c.fillStyle = colour("ground");
          c.fillText("◆", begin + 1, block.lane * LANE + LANE / 2);
        }
      }
    }
    // Retries are linked to the attempt before them: all where they are few, else those of what is pointed at.
    const shown = links.length <= MOST_LINKS ? links : links.filter(([, retry]) => retry.entry === pointed);
    c.strokeStyle = colour("ink");
    for (const [before, retry] of shown) {
      c.globalAlpha = retry.entry === pointed ? 1 : 0.45;
      c.lineWidth = retry.entry === pointed ? 2 : 1;
      c.beginPath();
      c.moveTo(x(before.to_us), before.lane * LANE + LANE / 2);
      c.lineTo(x(retry.from_us), retry.lane * LANE + LANE / 2);
      c.stroke();
    }
    c.globalAlpha = 1;
    c.lineWidth = 1;
    c.fillStyle = colour("dim");
    const ticks = Math.max(2, Math.floor(width / 160));
    for (let tick = 0; tick <= ticks; tick += 1) {
      const us = times.from_us + (whole * tick) / ticks;
      const text = span(Math.round(us));
      const wide = c.measureText(text).width;
      c.fillText(text, Math.min(Math.max(x(us) - wide / 2, LABEL), width - wide - 2), lanes.length * LANE + AXIS / 2);
    }
    if (drag) {
      c.fillStyle = colour("running");
      c.globalAlpha = 0.25;
      c.fillRect(Math.min(...drag), 0, Math.abs(drag[1] - drag[0]), lanes.length * LANE);
      c.globalAlpha = 1;
    }
    // What is drawn follows from these alone.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [times, width, theme, drag, pointed]);

  const blockAt = (event: MouseEvent<HTMLCanvasElement>) => {
    const edge = event.currentTarget.getBoundingClientRect();
    const [px, py] = [event.clientX - edge.left, event.clientY - edge.top];
    const lane = Math.floor(py / LANE);
    const near = times.blocks.filter((b) => b.lane === lane && x(b.from_us) - 2 <= px && px <= Math.max(x(b.to_us), x(b.from_us) + 2) + 2);
    const block = near[near.length - 1];
    const inside = block?.count === 1 ? (marks.get(keyOf(block)) ?? []) : [];
    const mark = inside.find((m) => x(m.from_us) <= px && px <= Math.max(x(m.to_us), x(m.from_us) + 2));
    return { block, mark, px, py };
  };
  const move = (event: MouseEvent<HTMLCanvasElement>) => {
    const { block, mark, px, py } = blockAt(event);
    if (drag) setDrag([drag[0], px]);
    setAt(block ? { block, mark, x: px, y: py } : null);
  };
  const up = (event: MouseEvent<HTMLCanvasElement>) => {
    const { block } = blockAt(event);
    const dragged = drag;
    setDrag(null);
    if (dragged && Math.abs(dragged[1] - dragged[0]) > 6) {
      onZoom([timeAt(Math.min(...dragged)), timeAt(Math.max(...dragged))]);
    } else if (block) {
      void navigate(`/runs/${run}/tests/${block.entry}?attempt=${block.number}`);
    }
  };
  const zoom = (factor: number, shift = 0) => {
    const middle = (times.from_us + times.to_us) / 2 + shift * whole;
    const half = (whole * factor) / 2;
    onZoom([Math.max(0, middle - half), middle + half]);
  };
  const keys = (event: KeyboardEvent) => {
    const does: Record<string, () => void> = { "+": () => zoom(0.5), "-": () => zoom(2), ArrowLeft: () => zoom(1, -0.25), ArrowRight: () => zoom(1, 0.25), "0": () => onZoom(null) };
    const act = does[event.key];
    if (act) {
      event.preventDefault();
      act();
    }
  };
  const rows = useMemo(() => perLane(times), [times]);
  const name = (entry: number) => plain(times.names[String(entry)] ?? `test ${entry + 1} of its list`);
  const held = times.tail?.attempts[0];
  const parted = times.cases.reduce((sum, mark) => sum + mark.count, 0);
  return (
    <section className="timeline" aria-label="Slots over time">
      <h2>
        Slots over time
        <small>
          {" "}
          {times.lanes.length} {times.lanes.length === 1 ? "slot" : "slots"}, {Math.round(times.busy * 100)}% of their time in tests{parted > 0 ? `; ${parted} cases within their files` : ""}
        </small>
        <span className="zoom" role="group" aria-label="Zoom">
          <button type="button" className="btn btn-sm btn-link" onClick={() => zoom(0.5)} aria-label="Closer">
            +
          </button>
          <button type="button" className="btn btn-sm btn-link" onClick={() => zoom(2)} disabled={!zoomed} aria-label="Farther">
            −
          </button>
          <button type="button" className="btn btn-sm btn-link" onClick={() => onZoom(null)} disabled={!zoomed}>
            all
          </button>
        </span>
      </h2>
      <div ref={box} className="timeline-box">
        <canvas
          ref={canvas}
          style={{ width, height }}
          role="img"
          tabIndex={0}
          aria-label={`${times.lanes.length} slots from ${span(times.from_us)} to ${span(times.to_us)}; the same as a table below. Keys: + and - zoom, arrows move, 0 shows all.`}
          onMouseMove={move}
          onMouseLeave={() => {
            setAt(null);
            setDrag(null);
          }}
          onMouseDown={(e) => setDrag([blockAt(e).px, blockAt(e).px])}
          onMouseUp={up}
          onKeyDown={keys}
          className={at ? "over" : undefined}
        />
        {at ? (
          <div className="hover" style={{ left: Math.min(at.x + 12, width - 260), top: Math.min(at.y + 14, height) }}>
            {at.block.count > 1 ? `${at.block.count} attempts, the worst: ` : ""}
            <span className="name">{name(at.block.entry)}</span>
            <br />
            {at.mark ? <MarkSaid mark={at.mark} /> : null}
            attempt {at.block.number}, {glyphOf(at.block.ended)} {at.block.ended}, {span(at.block.to_us - at.block.from_us)}, from {span(at.block.from_us)}
          </div>
        ) : null}
      </div>
      {over && times.tail && held ? (
        <p className="under-figure">
          <span className="tone-void">▌</span> For the last {span(times.tail.to_us - times.tail.from_us)} fewer than half of the slots had work; <span className="name">{name(held[0])}</span> ended last
          {times.tail.attempts.length > 1 ? `, with ${times.tail.attempts.length - 1} ${times.tail.attempts.length === 2 ? "other" : "others"} before it` : ""}.
        </p>
      ) : null}
      <details>
        <summary>As a table</summary>
        <table className="table table-sm dense">
          <thead>
            <tr>
              <th>Slot</th>
              <th className="number">Attempts</th>
              <th className="number">Failing</th>
              <th className="number">In tests</th>
              <th className="number">First</th>
              <th className="number">Last until</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.name}>
                <td className="name">{row.name}</td>
                <td className="number">{row.count}</td>
                <td className="number">{row.failing}</td>
                <td className="number">{span(row.spent)}</td>
                <td className="number">{span(row.from)}</td>
                <td className="number">{span(row.to)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </section>
  );
}

/** A case, or the worst of some too short to be told apart. */
function MarkSaid({ mark }: { mark: CaseMark }) {
  return (
    <>
      {mark.count > 1 ? `${mark.count} cases, the worst: ` : "case "}
      <span className="name">{plain(mark.title)}</span> {glyphOf(mark.ended)} {mark.ended}, {span(mark.to_us - mark.from_us)}
      <br />
    </>
  );
}

const keyOf = (of: { entry: number; number: number }) => `${of.entry}.${of.number}`;

/** The cases within each attempt that shows them. */
function marksOf(times: Times): Map<string, CaseMark[]> {
  const marks = new Map<string, CaseMark[]>();
  for (const mark of times.cases) {
    const of = marks.get(keyOf(mark));
    if (of) of.push(mark);
    else marks.set(keyOf(mark), [mark]);
  }
  return marks;
}

/** Each retry with the attempt before it. */
function linksOf(times: Times): [Block, Block][] {
  const last = new Map<number, Block>();
  const links: [Block, Block][] = [];
  const single = times.blocks.filter((block) => block.count === 1 && block.lane < MOST_LANES);
  for (const block of single.sort((a, b) => a.number - b.number)) {
    const before = last.get(block.entry);
    if (before && before.number === block.number - 1) links.push([before, block]);
    last.set(block.entry, block);
  }
  return links;
}

function perLane(times: Times) {
  const rows = times.lanes.map(([worker, slot]) => ({ name: `${worker}.${slot}`, count: 0, failing: 0, spent: 0, from: Infinity, to: 0 }));
  for (const block of times.blocks) {
    const row = rows[block.lane];
    row.count += block.count;
    row.failing += toneOfBlock(block) === "failed" ? 1 : 0;
    row.spent += block.to_us - block.from_us;
    row.from = Math.min(row.from, block.from_us);
    row.to = Math.max(row.to, block.to_us);
  }
  return rows.filter((row) => row.count > 0);
}
