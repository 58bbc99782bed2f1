// The water line: outcomes in the order in which they came, left to right, with what is left as open water.

import { useId } from "react";

import { outcomeOf } from "./states";

interface Props {
  letters: string;
  total: number;
  running?: number;
  height?: number;
  label: string;
}

export function Strip({ letters, total, running = 0, height = 10, label }: Props) {
  const hatch = useId();
  const known = Math.max(total, letters.length, 1);
  // Stretches of one outcome are one rectangle, so that a strip stays cheap however long it is.
  const stretches: { outcome: string; from: number; length: number }[] = [];
  for (let i = 0; i < letters.length; i += 1) {
    const outcome = outcomeOf(letters[i]);
    const last = stretches[stretches.length - 1];
    if (last && last.outcome === outcome) last.length += 1;
    else stretches.push({ outcome, from: i, length: 1 });
  }
  // A thinned strip stands for more outcomes than it has letters; it fills what is done.
  return (
    <svg className="strip" role="img" aria-label={label} width="100%" height={height} viewBox={`0 0 1000 ${height}`} preserveAspectRatio="none">
      <defs>
        <pattern id={hatch} width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" className="fill-flaky" />
          <rect width="2" height="6" className="hatch" />
        </pattern>
      </defs>
      <rect width="1000" height={height} className="open-water" />
      {stretches.map((s) => (
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
        <rect x={(letters.length / known) * 1000} width={Math.max((running / known) * 1000, 3)} y={height * 0.12} height={height * 0.76} className="fill-running" opacity="0.7" />
      ) : null}
    </svg>
  );
}

/** A strip of a run in a list. The summary's strip is thinned, so that it is stretched over what is done. */
export function SmallStrip({ strip, done, total, label }: { strip: string; done: number; total: number; label: string }) {
  const whole = done > 0 ? Math.round((strip.length * Math.max(total, done)) / done) : strip.length;
  return <Strip letters={strip} total={Math.max(whole, 1)} height={12} label={label} />;
}
