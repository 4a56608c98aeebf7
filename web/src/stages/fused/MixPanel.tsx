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
import { useLine, useMix } from "../../api/queries";
import { Segments } from "../../shell/Segments";
import { Loading } from "../../shell/states";
import { score } from "../../text/numbers";

type Method = "scores" | "ranks";
const NAMES: Record<Method, string> = { scores: "scaled scores", ranks: "reciprocal ranks" };

interface Fusion {
  method: string;
  weights: Record<string, number>;
}

function inForce(recipe: Recipe, branches: string[]): { method: Method; dense: number } | null {
  const fusion = (recipe.body as { fusion: Fusion }).fusion;
  const [first, second] = branches.map((branch) => fusion.weights[branch] ?? 0);
  if (first === undefined || second === undefined || first + second === 0) return null;
  return {
    method: fusion.method === "reciprocal-rank" ? "ranks" : "scores",
    dense: second / (first + second),
  };
}

export function MixPanel({ question, tall = false }: { question?: number; tall?: boolean }) {
  const line = useLine();
  const mix = useMix();
  const pinned = useMix(question);
  const current = line.data && mix.data ? inForce(line.data.recipe, mix.data.branches) : null;
  const [picked, setMethod] = useState<Method | null>(null);
  const method = picked ?? current?.method ?? "scores";
  if (mix.isPending && line.data?.trial) return <Loading what="Measuring mixes" />;
  if (!mix.data || mix.data.points.length === 0)
    return (
      <p className="soft small-text">The mix is measured for recipes with two branches, after their trial.</p>
    );
  const data = mix.data;
  const best = bestOf(data, method);
  const ticks = twentieths(data.points.flatMap((point) => [point.scores, point.ranks]));
  const here = current && data.points[Math.round(current.dense * (data.points.length - 1))];
  const rank =
    question !== undefined && pinned.data ? pinnedRanks(pinned.data, method, current?.dense ?? 0.5) : null;
  return (
    <div>
      <div className="d-flex align-items-baseline justify-content-between">
        <h3>Mix of {data.branches.join(" and ")}</h3>
        <Segments
          options={[
            ["scores", NAMES.scores],
            ["ranks", NAMES.ranks],
          ]}
          value={method}
          choose={setMethod}
        />
      </div>
      <ResponsiveContainer width="100%" height={tall ? 250 : 150}>
        <LineChart data={data.points} margin={{ top: 12, right: 14, bottom: 0, left: -18 }}>
          <CartesianGrid vertical={false} stroke="#eadfce" />
          <XAxis
            dataKey="dense"
            type="number"
            domain={[0, 1]}
            ticks={[0, 0.25, 0.5, 0.75, 1]}
            tickFormatter={(value: number) =>
              value === 0 ? `all ${data.branches[0]}` : value === 1 ? `all ${data.branches[1]}` : ratio(value)
            }
            tick={{ fontSize: 11, fill: "#6d5746" }}
          />
          <YAxis
            domain={[ticks[0]!, ticks[ticks.length - 1]!]}
            ticks={ticks}
            tick={{ fontSize: 11, fill: "#6d5746" }}
            tickFormatter={(value: number) => (value >= 1 ? "1" : value.toFixed(2).slice(1))}
          />
          <Tooltip
            labelFormatter={(value) => `${data.branches[0]} to ${data.branches[1]}: ${ratio(Number(value))}`}
            formatter={(value, name) => [score(Number(value)), `${NAMES[name as Method]}, recall@${data.k}`]}
          />
          {current && <ReferenceLine x={current.dense} stroke="var(--fused)" strokeDasharray="4 3" />}
          <Line
            dataKey={method === "scores" ? "ranks" : "scores"}
            stroke="#c9b49c"
            dot={false}
            isAnimationActive={false}
          />
          <Line
            dataKey={method}
            stroke="var(--fused)"
            strokeWidth={2.2}
            dot={false}
            isAnimationActive={false}
          />
          <ReferenceDot x={best.dense} y={best[method]} r={5} fill="var(--answer)" stroke="none" />
        </LineChart>
      </ResponsiveContainer>
      <p className="small-text mb-1 num">
        recall@{data.k} of the fused list over {data.questions} questions, larger is better.{" "}
        <strong className="gain">
          Best {score(best[method])} at {ratio(best.dense)}
        </strong>
        {here && current && (
          <>
            ; in force: {NAMES[current.method]} at {ratio(current.dense)}, {score(here[current.method])}
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
        curve is the other method. The shipped mix was chosen like this: among the points near the best of
        both curves on the demo&apos;s questions, the one that delivered most after reranking. It was chosen
        on the very questions shown here: on other text, measure again.
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

function bestOf(mix: Mix, method: Method): Mix["points"][number] {
  // Of equal points the one nearest to an even mix.
  return mix.points.reduce((best, point) => {
    const gain = point[method] - best[method];
    const nearer = Math.abs(point.dense - 0.5) < Math.abs(best.dense - 0.5);
    return gain > 1e-9 || (Math.abs(gain) <= 1e-9 && nearer) ? point : best;
  });
}

function pinnedRanks(mix: Mix, method: Method, dense: number) {
  const key = method === "scores" ? "rank_by_scores" : "rank_by_ranks";
  const now = mix.points[Math.round(dense * (mix.points.length - 1))]?.[key] ?? null;
  const found = mix.points.filter((point) => point[key] !== null);
  const best = found.reduce<(typeof found)[number] | null>(
    (low, point) => (low === null || point[key]! < low[key]! ? point : low),
    null,
  );
  return { now, best: best?.[key] ?? null, at: best?.dense ?? null };
}

function ratio(dense: number): string {
  if (dense <= 0 || dense >= 1) return dense <= 0 ? "1 : 0" : "0 : 1";
  const tidy = (value: number) => Number(value.toFixed(1)).toString();
  return dense <= 0.5 ? `${tidy((1 - dense) / dense)} : 1` : `1 : ${tidy(dense / (1 - dense))}`;
}
