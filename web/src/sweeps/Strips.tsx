// Each setting alone: over all that was tried, from the worst to the best with each of its values, and the mean.
import { scaleLinear } from "d3-scale";
import { score } from "../text/numbers";
import { same, valued, type Swept, type SweepRow } from "./api";
import { byReach, marginals } from "./marginal";

const HIGH = 74;
const STEP = 54;
const LEFT = 40;

export function Strips({ data, row }: { data: Swept; row: SweepRow }) {
  const means = data.rows.flatMap(({ mean }) => (mean === null ? [] : [mean]));
  const y = scaleLinear()
    .domain([Math.min(...means), Math.max(...means)])
    .nice(3)
    .range([HIGH - 8, 8]);
  return (
    <div className="strips">
      <p className="small-text soft mb-1">
        Each setting alone: bars from the worst to the best of the other settings, the tick is their mean.
        Those that move the figure most come first.
      </p>
      {byReach(data.rows, data.moved).map((axis) => {
        const found = marginals(data.rows, axis);
        const said = found.map(({ value, mean }) => `${valued(value)}: ${score(mean)}`).join("; ");
        return (
          <figure key={axis.path} className="mb-2">
            <figcaption className="small-text">{axis.title}</figcaption>
            <svg
              width={LEFT + STEP * found.length}
              height={HIGH + 16}
              role="img"
              aria-label={`${axis.title}, means: ${said}`}
            >
              {y.ticks(3).map((tick) => (
                <g key={tick}>
                  <line
                    className="grid"
                    x1={LEFT}
                    x2={LEFT + STEP * found.length}
                    y1={y(tick)}
                    y2={y(tick)}
                  />
                  <text x={LEFT - 6} y={y(tick) + 4} textAnchor="end">
                    {score(tick)}
                  </text>
                </g>
              ))}
              {found.map(({ value, low, high, mean }, place) => {
                const x = LEFT + STEP * (place + 0.5);
                return (
                  <g key={valued(value)} className={same(value, row.settings[axis.path]) ? "picked" : ""}>
                    <line className="reach" x1={x} x2={x} y1={y(low)} y2={y(high)} />
                    <line className="mean" x1={x - 9} x2={x + 9} y1={y(mean)} y2={y(mean)} />
                    <text x={x} y={HIGH + 12} textAnchor="middle" className="value">
                      {valued(value).slice(0, 9)}
                    </text>
                  </g>
                );
              })}
            </svg>
          </figure>
        );
      })}
    </div>
  );
}
