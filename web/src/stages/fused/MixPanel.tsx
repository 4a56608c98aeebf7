// How recall follows the mix of the two branches, and how the shipped mix was chosen.
import { useState } from "react";
import {
  CartesianGrid,
  Line,
  LineChart,
  ReferenceDot,
  ReferenceLine,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from "recharts";
import type { Mix, Recipe } from "../../api/client";
import { useLine } from "../../api/queries";
import { useMix } from "./api";
import { Segments } from "../../shell/Segments";
import { Loading } from "../../shell/states";
import { score } from "../../text/numbers";

type Curve = Mix["curves"][number];

interface Fusion {
  method: string;
  weights: Record<string, number>;
}

function inForce(recipe: Recipe, branches: string[]): { method: string; second: number } | null {
  const { method, weights }: Fusion = recipe.body.fusion;
  const [first, second] = branches.map((branch) => weights[branch] ?? 0);
  if (first === undefined || second === undefined || first + second === 0) return null;
  return { method, second: second / (first + second) };
}

export function MixPanel({ question, tall = false }: { question?: number; tall?: boolean }) {
  const line = useLine();
  const mix = useMix();
  const pinned = useMix(question);
  const current = line.data && mix.data ? inForce(line.data.recipe, mix.data.branches) : null;
  const [picked, setMethod] = useState<string | null>(null);
  if (mix.isPending && line.data?.trial) return <Loading what="Measuring mixes" />;
  if (!mix.data || mix.data.curves.length === 0)
    return (
      <p className="soft small-text">The mix is measured for recipes with two branches, after their trial.</p>
    );
  const data = mix.data;
  const named = picked ?? current?.method;
  const curve = data.curves.find(({ method }) => method === named) ?? data.curves[0]!;
  const others = data.curves.filter((other) => other !== curve);
  const best = bestOf(curve);
  const ticks = twentieths(data.curves.flatMap(({ points }) => points.map(({ recall }) => recall)));
  const own = current && data.curves.find(({ method }) => method === current.method);
  const here = current && own && at(own, current.second);
  const asked = question !== undefined && pinned.data?.curves.find(({ method }) => method === curve.method);
  const rank = asked ? pinnedRanks(asked, current?.second ?? 0.5) : null;
  const titles = Object.fromEntries(data.curves.map(({ method, title }) => [method, title]));
  const rows = curve.points.map(({ second }, place) => ({
    second,
    ...Object.fromEntries(data.curves.map(({ method, points }) => [method, points[place]!.recall])),
  }));
  return (
    <div>
      <div className="d-flex align-items-baseline justify-content-between">
        <h3>Mix of {data.branches.join(" and ")}</h3>
        <Segments
          options={data.curves.map(({ method, title }) => [method, title] as [string, string])}
          value={curve.method}
          choose={setMethod}
        />
      </div>
      <ResponsiveContainer width="100%" height={tall ? 250 : 150}>
        <LineChart data={rows} margin={{ top: 12, right: 14, bottom: 0, left: -18 }}>
          <CartesianGrid vertical={false} stroke="var(--grid)" />
          <XAxis
            dataKey="second"
            type="number"
            domain={[0, 1]}
            ticks={[0, 0.25, 0.5, 0.75, 1]}
            tickFormatter={(value: number) =>
              value === 0 ? `all ${data.branches[0]}` : value === 1 ? `all ${data.branches[1]}` : ratio(value)
            }
            tick={{ fontSize: 11, fill: "var(--soft)" }}
          />
          <YAxis
            domain={[ticks[0]!, ticks[ticks.length - 1]!]}
            ticks={ticks}
            tick={{ fontSize: 11, fill: "var(--soft)" }}
            tickFormatter={(value: number) => (value >= 1 ? "1" : value.toFixed(2).slice(1))}
          />
          <Tooltip
            labelFormatter={(value) => `${data.branches[0]} to ${data.branches[1]}: ${ratio(Number(value))}`}
            formatter={(value, name) => [score(Number(value)), `${titles[String(name)]}, recall@${data.k}`]}
          />
          {current && <ReferenceLine x={current.second} stroke="var(--fused)" strokeDasharray="4 3" />}
          {others.map(({ method }) => (
            <Line key={method} dataKey={method} stroke="var(--pale)" dot={false} isAnimationActive={false} />
          ))}
          <Line
            dataKey={curve.method}
            stroke="var(--fused)"
            strokeWidth={2.2}
            dot={false}
            isAnimationActive={false}
          />
          <ReferenceDot x={best.second} y={best.recall} r={5} fill="var(--answer)" stroke="none" />
        </LineChart>
      </ResponsiveContainer>
      <p className="small-text mb-1 num">
        recall@{data.k} of the fused list over {data.questions} questions, larger is better.{" "}
        <strong className="gain">
          Best {score(best.recall)} at {ratio(best.second)}
        </strong>
        {here && current && (
          <>
            ; in force: {titles[current.method]} at {ratio(current.second)}, {score(here.recall)}
          </>
        )}
        .
      </p>
      {rank && (
        <p className="small-text mb-1 num">
          This question: first relevant chunk at {rank.now ?? "none"} with the mix in force; best reachable{" "}
          {rank.best ?? "none"} at {rank.at === null ? "no mix" : ratio(rank.at)}.
        </p>
      )}
      <p className="small-text soft mb-0">
        The first {data.k} are what goes on. Weights are {data.branches[0]} to {data.branches[1]}; the pale
        {others.length === 1 ? " curve is the other method" : " curves are the other methods"}. The shipped
        mix was chosen like this: among the points near the best of both curves on the demo&apos;s questions,
        the one that delivered most after reranking. It was chosen on the very questions shown here: on other
        text, measure again.
      </p>
    </div>
  );
}

/** Steps of .05 around all values, at least two of them. */
function twentieths(values: number[]): number[] {
  const low = Math.max(0, Math.floor(Math.min(...values) * 20));
  const high = Math.min(20, Math.max(Math.ceil(Math.max(...values) * 20), low + 2));
  return Array.from({ length: high - low + 1 }, (_, step) => (low + step) / 20);
}

/** The point of a curve that is nearest to a mix. */
const at = (curve: Curve, second: number) => curve.points[Math.round(second * (curve.points.length - 1))];

function bestOf({ points }: Curve): Curve["points"][number] {
  // Of equal points the one nearest to an even mix.
  return points.reduce((best, point) => {
    const gain = point.recall - best.recall;
    const nearer = Math.abs(point.second - 0.5) < Math.abs(best.second - 0.5);
    return gain > 1e-9 || (Math.abs(gain) <= 1e-9 && nearer) ? point : best;
  });
}

function pinnedRanks(curve: Curve, second: number) {
  const found = curve.points.filter((point) => point.rank !== null);
  const best = found.reduce<(typeof found)[number] | null>(
    (low, point) => (low === null || point.rank! < low.rank! ? point : low),
    null,
  );
  return { now: at(curve, second)?.rank ?? null, best: best?.rank ?? null, at: best?.second ?? null };
}

function ratio(second: number): string {
  if (second <= 0 || second >= 1) return second <= 0 ? "1 : 0" : "0 : 1";
  const tidy = (value: number) => Number(value.toFixed(1)).toString();
  return second <= 0.5 ? `${tidy((1 - second) / second)} : 1` : `1 : ${tidy(second / (1 - second))}`;
}
