// The water line: outcomes in the order in which they came, left to right, with what is left as open water.

import { useId } from "react";

import { type Stretch, lengthened } from "../data/run";
import { outcomeOf } from "./states";

interface Props {
  stretches: Stretch[];
  total: number;
  running?: number;
  height?: number;
  label: string;
}

export function Strip({ stretches, total, running = 0, height = 10, label }: Props) {
  const hatch = useId();
  const done = stretches.reduce((sum, [, n]) => sum + n, 0);
  const known = Math.max(total, done, 1);
  // Stretches of one outcome are one rectangle, so that a strip stays cheap however long it is.
  let at = 0;
  const drawn = stretches.map(([letter, length]) => {
    const from = at;
    at += length;
    return { outcome: outcomeOf(letter), from, length };
  });
  return (
    <svg className="strip" role="img" aria-label={label} width="100%" height={height} viewBox={`0 0 1000 ${height}`} preserveAspectRatio="none">
      <defs>
        <pattern id={hatch} width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" className="fill-flaky" />
          <rect width="2" height="6" className="hatch" />
        </pattern>
      </defs>
      <rect width="1000" height={height} className="open-water" />
      {drawn.map((s) => (
        <rect
          key={s.from}
          x={(s.from / known) * 1000}
          width={Math.max((s.length / known) * 1000, s.outcome === "failed" || s.outcome === "flaky" ? 2 : 0.5)}
          y={s.outcome === "failed" ? 0 : height * 0.12}
          height={s.outcome === "failed" ? height : height * 0.76}
          className={s.outcome === "flaky" ? undefined : `fill-${s.outcome}`}
          fill={s.outcome === "flaky" ? `url(#${hatch})` : undefined}
        />
      ))}
      {running > 0 ? (
        <rect x={(done / known) * 1000} width={Math.max((running / known) * 1000, 3)} y={height * 0.12} height={height * 0.76} className="fill-running" opacity="0.7" />
      ) : null}
    </svg>
  );
}

/** A strip of a run in a list. The summary's strip is thinned: each of its letters stands for several outcomes. */
export function SmallStrip({ strip, done, total, label }: { strip: string; done: number; total: number; label: string }) {
  const stretches = lengthened([], strip, done / Math.max(strip.length, 1));
  return <Strip stretches={stretches} total={Math.max(total, 1)} height={12} label={label} />;
}
