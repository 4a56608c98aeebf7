// The frontier: what recipes find against what they cost; what something else beats in both is pale.
import { useState } from "react";
import { scaleLinear, scaleLog } from "d3-scale";
import { mark, pictureKeys } from "../shell/pictureKeys";
import { bytes, score } from "../text/numbers";
import type { Comparison } from "./api";
import { beaten, frontier, type Point } from "./frontier";

const [WIDTH, HEIGHT] = [820, 250];
/** Pixels between two figures of the axis of costs. */
const BETWEEN = 70;
const EDGE = { left: 52, right: 150, top: 14, bottom: 42 };
const APART = 13;

const COSTS = {
  milliseconds: {
    title: "milliseconds a question, median",
    said: (v: number) => `${v < 10 ? v.toFixed(1) : Math.round(v)} ms`,
  },
  tokens: { title: "tokens handed on, mean", said: (v: number) => `${Math.round(v)} tokens` },
  bytes: { title: "indexes on disk", said: bytes },
  price: { title: "price of 1,000 questions", said: (v: number) => v.toPrecision(3) },
} as const;
type Cost = keyof typeof COSTS;

export function Frontier({ data, title }: { data: Comparison; title: string }) {
  const [cost, setCost] = useState<Cost>("milliseconds");
  const points = data.rows.flatMap(({ recipe, title: name, costs, cells }): Point[] => {
    const [paid, value] = [costs[cost], cells[0]?.mean];
    return paid === undefined || value === null || value === undefined
      ? []
      : [{ name, cost: paid, value, inForce: recipe?.in_force ?? false }];
  });
  if (points.length < 2) return null;
  return (
    <section className="against-cost" aria-label="What recipes find against what they cost">
      <div className="d-flex align-items-center gap-3">
        <h3 className="mb-0">{title} against</h3>
        <select
          className="form-select form-select-sm w-auto"
          aria-label="Cost"
          value={cost}
          onChange={(event) => setCost(event.target.value as Cost)}
        >
          {Object.entries(COSTS)
            .filter(([name]) => name !== "price" || data.rows.some(({ costs }) => costs.price))
            .map(([name, one]) => (
              <option key={name} value={name}>
                {one.title}
              </option>
            ))}
        </select>
      </div>
      <Picture points={points} cost={cost} title={title} />
      <p className="small-text soft mb-0">
        The line joins recipes that nothing beats in both; pale ones cost no less and find no more than
        another. Differences may be noise; the table above says which.
      </p>
    </section>
  );
}

function Picture({ points, cost, title }: { points: Point[]; cost: Cost; title: string }) {
  const paid = points.map((point) => point.cost);
  const [least, most] = [Math.min(...paid), Math.max(...paid)];
  const wide = least > 0 && most / least > 8;
  const x = (wide ? scaleLog() : scaleLinear())
    .domain(wide ? [least / 1.3, most * 1.3] : [Math.max(0, least - (most - least) * 0.1), most || 1])
    .range([EDGE.left, WIDTH - EDGE.right]);
  const found = points.map((point) => point.value);
  const room = Math.max(0.01, (Math.max(...found) - Math.min(...found)) * 0.12);
  const y = scaleLinear()
    .domain([Math.max(0, Math.min(...found) - room), Math.min(1, Math.max(...found) + room)])
    .range([HEIGHT - EDGE.bottom, EDGE.top]);
  const line = frontier(points);
  const said = COSTS[cost].said;
  const names = placed(points.map((point) => y(point.value)));
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      style={{ width: "100%", maxWidth: WIDTH }}
      role="group"
      aria-label={`${title} against ${COSTS[cost].title}`}
      aria-description={`Nothing beats ${line.map((point) => `${point.name}: ${score(point.value)} at ${said(point.cost)}`).join("; ")}.`}
      onKeyDown={pictureKeys}
    >
      {y.ticks(4).map((tick) => (
        <g key={tick}>
          <line className="grid" x1={EDGE.left} x2={WIDTH - EDGE.right} y1={y(tick)} y2={y(tick)} />
          <text x={EDGE.left - 6} y={y(tick) + 4} textAnchor="end">
            {score(tick)}
          </text>
        </g>
      ))}
      {apart(x.ticks(6), x).map((tick) => (
        <text key={tick} x={x(tick)} y={HEIGHT - EDGE.bottom + 16} textAnchor="middle">
          {said(tick)}
        </text>
      ))}
      <text x={(EDGE.left + WIDTH - EDGE.right) / 2} y={HEIGHT - 6} textAnchor="middle">
        {COSTS[cost].title}; up and left is better
      </text>
      <path
        className="edge"
        d={line
          .map((point, at) =>
            at === 0 ? `M${x(point.cost)},${y(point.value)}` : `H${x(point.cost)}V${y(point.value)}`,
          )
          .join("")}
      />
      {points.map((point, at) => {
        const pale = beaten(point, points);
        return (
          <g
            key={point.name}
            className={`spot ${pale ? "pale" : ""} ${point.inForce ? "in-force" : ""}`}
            {...mark(
              `${point.name}: ${title} ${score(point.value)} at ${said(point.cost)}${pale ? ", beaten by another in both" : ""}`,
              at === 0,
            )}
          >
            <path
              className="to-name"
              d={`M${x(point.cost) + 6},${y(point.value)}L${WIDTH - EDGE.right + 8},${names[at]! - 4}`}
            />
            <circle cx={x(point.cost)} cy={y(point.value)} r={point.inForce ? 7 : 5} />
            <text x={WIDTH - EDGE.right + 12} y={names[at]}>
              {point.name}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

/** Figures of an axis that stand clear of each other; of a logarithmic one, round ones come first. */
function apart(ticks: number[], x: (value: number) => number): number[] {
  const round = (value: number) => ["1", "5", "2"].indexOf(value.toExponential()[0]!);
  const order = [...ticks].sort((a, b) => ((round(a) + 4) % 4) - ((round(b) + 4) % 4));
  const kept: number[] = [];
  for (const tick of order)
    if (kept.every((other) => Math.abs(x(other) - x(tick)) >= BETWEEN)) kept.push(tick);
  return kept;
}

/** Heights of names beside their points, pushed apart where they would stand on each other. */
function placed(heights: number[]): number[] {
  const order = heights.map((_, at) => at).sort((a, b) => heights[a]! - heights[b]!);
  const found = new Array<number>(heights.length);
  let last = -Infinity;
  for (const at of order) {
    last = Math.max(heights[at]! + 4, last + APART);
    found[at] = last;
  }
  const over = Math.max(0, last - (HEIGHT - EDGE.bottom + 10));
  return found.map((height) => height - over);
}
