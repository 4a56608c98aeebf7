// An ordinary bar chart in a stage's colour.
import {
  Bar,
  BarChart,
  CartesianGrid,
  ReferenceLine,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from "recharts";

export function Bars({
  data,
  tone,
  x,
  y,
  height = 190,
  mark,
}: {
  data: { name: string; value: number }[];
  tone: string;
  x: string;
  y: string;
  height?: number;
  mark?: { at: string; label: string };
}) {
  return (
    <figure className="m-0">
      <div className="small-text soft">{y}</div>
      <ResponsiveContainer width="100%" height={height}>
        <BarChart data={data} margin={{ top: 6, right: 12, bottom: 2, left: -14 }}>
          <CartesianGrid vertical={false} stroke="var(--grid)" />
          <XAxis dataKey="name" tick={{ fontSize: 12, fill: "var(--soft)" }} interval="preserveStartEnd" />
          <YAxis allowDecimals={false} tick={{ fontSize: 12, fill: "var(--soft)" }} />
          <Tooltip cursor={{ fill: "var(--hover)" }} formatter={(value) => [String(value), y]} />
          {mark && (
            <ReferenceLine
              x={mark.at}
              stroke="var(--lost)"
              strokeDasharray="4 3"
              label={{ value: mark.label, position: "insideTopRight", fontSize: 12, fill: "var(--lost)" }}
            />
          )}
          <Bar dataKey="value" fill={tone} radius={[3, 3, 0, 0]} isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
      <figcaption className="small-text soft text-center">{x}</figcaption>
    </figure>
  );
}

const EDGES = [1, 2, 3, 5, 10, 20, 50];

/** Counts ranks in steps that widen, with those that were not found at the end. */
export function rankBins(ranks: (number | null | undefined)[]): { name: string; value: number }[] {
  const bins = EDGES.map((edge, place) => {
    const low = place ? EDGES[place - 1]! + 1 : 1;
    return {
      name: low === edge ? String(edge) : `${low}–${edge}`,
      value: ranks.filter((rank) => rank && rank >= low && rank <= edge).length,
    };
  });
  const beyond = ranks.filter((rank) => rank && rank > EDGES[EDGES.length - 1]!).length;
  if (beyond) bins.push({ name: "51+", value: beyond });
  return [...bins, { name: "not found", value: ranks.filter((rank) => !rank).length }];
}
