// What an attempt printed: its colours, a search, a number and a link for each line. Long output is drawn only where one looks.

import { useVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { useLocation } from "react-router";

import { linesOf, type Piece } from "./ansi";

interface Props {
  text: string;
  /** Begins the addresses of lines: `a1` gives `#a1L20`. */
  mark: string;
  /** More is coming: what is seen stays at the end, if it is there. */
  live?: boolean;
  label: string;
}

export function Output({ text, mark, live = false, label }: Props) {
  const lines = useMemo(() => linesOf(text), [text]);
  const plain = useMemo(() => lines.map((line) => line.map((piece) => piece.text).join("")), [lines]);
  const [typed, setTyped] = useState("");
  const wanted = useDeferredValue(typed.toLowerCase());
  const found = useMemo(() => (wanted ? plain.flatMap((line, i) => (line.toLowerCase().includes(wanted) ? [i] : [])) : []), [plain, wanted]);
  const [at, setAt] = useState(0);
  const box = useRef<HTMLDivElement>(null);
  const { hash } = useLocation();
  const linked = hash.startsWith(`#${mark}L`) ? Number(hash.slice(mark.length + 2)) - 1 : null;
  const rows = useVirtualizer({ count: lines.length, getScrollElement: () => box.current, estimateSize: () => 20, overscan: 30 });
  const go = (step: number) => {
    if (found.length === 0) return;
    const next = (at + step + found.length) % found.length;
    setAt(next);
    rows.scrollToIndex(found[next], { align: "center" });
  };
  useEffect(() => setAt(0), [wanted]);
  useEffect(() => {
    if (found.length > 0) rows.scrollToIndex(found[0], { align: "center" });
  }, [found, rows]);
  useEffect(() => {
    if (linked !== null && linked < lines.length) rows.scrollToIndex(linked, { align: "center" });
    // Only when one comes by a link, not with every line that is added.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [linked, lines.length > 0]);
  const atEnd = useRef(true);
  useEffect(() => {
    if (live && atEnd.current) rows.scrollToIndex(lines.length - 1);
  }, [live, lines.length, rows]);
  const current = found[at];
  return (
    <div className="printed">
      {lines.length > 5 ? (
        <form
          className="printed-search"
          role="search"
          onSubmit={(e) => {
            e.preventDefault();
            go(1);
          }}
        >
          <input type="search" className="form-control form-control-sm" placeholder="find in it" aria-label={`Find in ${label}`} value={typed} onChange={(e) => setTyped(e.target.value)} />
          {wanted ? (
            <>
              <span role="status">{found.length === 0 ? "nothing" : `${at + 1} of ${found.length}`}</span>
              <button type="button" className="btn btn-sm btn-link" onClick={() => go(-1)} aria-label="Previous">
                ↑
              </button>
              <button type="submit" className="btn btn-sm btn-link" aria-label="Next">
                ↓
              </button>
            </>
          ) : null}
        </form>
      ) : null}
      <div
        ref={box}
        className="printed-lines"
        tabIndex={0}
        role="log"
        aria-label={label}
        aria-live="off"
        onScroll={(e) => {
          const b = e.currentTarget;
          atEnd.current = b.scrollHeight - b.scrollTop - b.clientHeight < 30;
        }}
      >
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((row) => (
            <div
              key={row.index}
              ref={rows.measureElement}
              data-index={row.index}
              className={`line${row.index === linked ? " linked" : ""}${row.index === current ? " current" : ""}`}
              style={{ transform: `translateY(${row.start}px)` }}
            >
              <a className="line-number" href={`#${mark}L${row.index + 1}`} aria-label={`Line ${row.index + 1}`}>
                {row.index + 1}
              </a>
              <code>
                {lines[row.index].map((piece, i) => (
                  <Coloured key={i} piece={piece} wanted={wanted} />
                ))}
              </code>
            </div>
          ))}
        </div>
      </div>
    </div>
  );
}

function Coloured({ piece, wanted }: { piece: Piece; wanted: string }) {
  const classes = [piece.colour ? `ansi-${piece.colour}` : "", piece.bold ? "ansi-bold" : "", piece.dim ? "ansi-dim" : ""].filter(Boolean).join(" ");
  return (
    <span className={classes || undefined} style={piece.exact ? { color: `color-mix(in srgb, ${piece.exact} 60%, var(--ink))` } : undefined}>
      {marked(piece.text, wanted)}
    </span>
  );
}

/** A text with what is looked for marked in it. */
function marked(text: string, wanted: string) {
  if (!wanted) return text;
  const parts = [];
  const lower = text.toLowerCase();
  let from = 0;
  for (let at = lower.indexOf(wanted); at >= 0 && parts.length < 200; at = lower.indexOf(wanted, from)) {
    parts.push(text.slice(from, at), <mark key={at}>{text.slice(at, at + wanted.length)}</mark>);
    from = at + wanted.length;
  }
  return [...parts, text.slice(from)];
}
