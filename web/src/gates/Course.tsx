// The history of a figure as a picture: one mark a trial, with the level that may not be fallen below.
import { scaleLinear } from "d3-scale";
import { mark, pictureKeys } from "../shell/pictureKeys";
import { score } from "../text/numbers";
import type { Gate } from "./api";

const [WIDE, HIGH, LEFT, RIGHT, ABOVE, BELOW] = [560, 150, 44, 14, 14, 24];

export function Course({
  gate,
  picked,
  pick,
}: {
  gate: Gate;
  picked: number;
  pick: (trial: number) => void;
}) {
  const results = [...gate.results].reverse();
  const levels = [...results.map(({ mean }) => mean), ...(gate.least === null ? [] : [gate.least])];
  const [low, high] = [Math.min(...levels), Math.max(...levels)];
  const room = Math.max((high - low) * 0.15, 0.01);
  const y = scaleLinear()
    .domain([Math.max(low - room, 0), Math.min(high + room, 1)])
    .nice(4)
    .range([HIGH - BELOW, ABOVE]);
  const x = (place: number) =>
    results.length === 1
      ? (LEFT + WIDE - RIGHT) / 2
      : LEFT + 8 + (place * (WIDE - LEFT - RIGHT - 16)) / (results.length - 1);
  const day = (at: string) => new Date(at).toLocaleDateString();
  return (
    <svg
      className="course"
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="group"
      aria-label={`${gate.title} over ${results.length} trials, larger is better`}
      onKeyDown={pictureKeys}
    >
      {y.ticks(4).map((tick) => (
        <g key={tick}>
          <line className="grid" x1={LEFT} x2={WIDE - RIGHT} y1={y(tick)} y2={y(tick)} />
          <text x={LEFT - 6} y={y(tick) + 4} textAnchor="end">
            {score(tick)}
          </text>
        </g>
      ))}
      {gate.least !== null && (
        <>
          <line className="least" x1={LEFT} x2={WIDE - RIGHT} y1={y(gate.least)} y2={y(gate.least)} />
          <text className="least-name" x={WIDE - RIGHT} y={y(gate.least) + 13} textAnchor="end">
            at least {score(gate.least)}
          </text>
        </>
      )}
      <path
        className="way"
        d={results.map(({ mean }, place) => `${place ? "L" : "M"}${x(place)},${y(mean)}`).join("")}
      />
      {results.map((result, place) => (
        <g
          key={result.trial}
          className={`mark ${result.open ? "open" : "closed"} ${result.trial === picked ? "picked" : ""}`}
          transform={`translate(${x(place)},${y(result.mean)})`}
          onClick={() => pick(result.trial)}
          {...mark(
            `${score(result.mean)} on ${day(result.at)}, ${result.open ? "open" : "closed"}${result.trial === gate.baseline ? ", the baseline" : ""}`,
            result.trial === picked,
            result.trial === picked,
          )}
        >
          {result.open ? <circle r="5.5" /> : <path d="M-6,-6L6,6M-6,6L6,-6" />}
          {result.trial === gate.baseline && <path className="base" d="M-9,11h18" />}
        </g>
      ))}
      <text x={LEFT} y={HIGH - 6}>
        {day(results[0]!.at)}
      </text>
      <text x={WIDE - RIGHT} y={HIGH - 6} textAnchor="end">
        {day(results[results.length - 1]!.at)}
      </text>
    </svg>
  );
}
