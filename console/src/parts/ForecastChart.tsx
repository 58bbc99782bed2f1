// The plot of a forecast: the time with its range, the floor below which no number goes, and where more stop helping.

import { Area, CartesianGrid, ComposedChart, Line, ReferenceArea, ReferenceLine, ResponsiveContainer, XAxis, YAxis } from "recharts";

import type { Forecast } from "../data/api";

interface Props {
  made: Forecast;
  shown: Forecast["points"][number] | undefined;
  onOver: (shards: number | null) => void;
}

const seconds = (us: number) => us / 1e6;

export default function ForecastChart({ made, shown, onOver }: Props) {
  const points = made.points.map((p) => ({ shards: p.shards, time: seconds(p.time_us), range: [seconds(p.low_us), seconds(p.high_us)] }));
  const last = points[points.length - 1]?.shards ?? 1;
  const tick = { fill: "var(--dim)", fontSize: 12 };
  return (
    <ResponsiveContainer width="100%" height={200}>
      <ComposedChart
        data={points}
        margin={{ top: 6, right: 12, bottom: 2, left: 0 }}
        accessibilityLayer={false}
        onMouseMove={(state) => onOver(state.activeLabel === undefined ? null : Number(state.activeLabel))}
        onMouseLeave={() => onOver(null)}
      >
        <CartesianGrid stroke="var(--line)" vertical={false} />
        <XAxis type="number" dataKey="shards" domain={[1, last]} ticks={[1, ...[4, 8, 12, 16, 20, 24, 28, 32].filter((n) => n <= last)]} stroke="var(--dim)" tick={tick} />
        <YAxis width={52} unit=" s" stroke="var(--dim)" tick={tick} domain={[0, "auto"]} />
        {made.enough ? <ReferenceArea x1={made.enough} x2={last} fill="var(--water)" fillOpacity={0.7} /> : null}
        <ReferenceLine y={seconds(made.floor_us)} stroke="var(--void)" strokeDasharray="2 4" strokeWidth={1.5} />
        <Area dataKey="range" stroke="none" fill="var(--running)" fillOpacity={0.2} isAnimationActive={false} />
        <Line
          dataKey="time"
          stroke="var(--running)"
          strokeWidth={2}
          isAnimationActive={false}
          dot={({ cx, cy, payload, key }) => <circle key={key} cx={cx} cy={cy} r={payload.shards === shown?.shards ? 5 : 2.5} fill="var(--running)" />}
          activeDot={false}
        />
      </ComposedChart>
    </ResponsiveContainer>
  );
}
