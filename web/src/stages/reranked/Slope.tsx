// Before and after: where the first relevant chunk of each question stood, and where the reranker put it.
import { moves } from "./settings";

const WIDTH = 420;
const HEIGHT = 330;
const LEFT = 62;
const RIGHT = WIDTH - 62;
const TOP = 26;

export function Slope({ pairs, depth }: { pairs: [from: number, to: number][]; depth: number }) {
  const y = (rank: number) => TOP + ((rank - 1) / Math.max(depth - 1, 1)) * (HEIGHT - TOP - 14);
  const rows = moves(pairs);
  const risen = pairs.filter(([from, to]) => to < from).length;
  const fallen = pairs.filter(([from, to]) => to > from).length;
  const counted = (side: 0 | 1, rank: number) => pairs.filter((pair) => pair[side] === rank).length;
  return (
    <svg
      className="slope"
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      role="img"
      aria-label={`First relevant chunk before and after reranking: ${risen} questions rise, ${fallen} fall, ${pairs.length - risen - fallen} stay`}
    >
      <text x={LEFT} y={12} textAnchor="middle" className="head">
        fused
      </text>
      <text x={RIGHT} y={12} textAnchor="middle" className="head">
        reranked
      </text>
      {rows.map(({ from, to, count }) => (
        <line
          key={`${from} ${to}`}
          x1={LEFT}
          x2={RIGHT}
          y1={y(from)}
          y2={y(to)}
          className={to < from ? "up" : to > from ? "down" : "same"}
          strokeWidth={1 + 1.6 * Math.sqrt(count - 1)}
        >
          <title>{`${count} ${count === 1 ? "question" : "questions"}: rank ${from} to ${to}`}</title>
        </line>
      ))}
      {Array.from({ length: depth }, (_, row) => row + 1).map((rank) => (
        <g key={rank} className="rank">
          {(rank === 1 || rank % 5 === 0) && (
            <>
              <text x={LEFT - 15} y={y(rank) + 4} textAnchor="end">
                {rank}
              </text>
              <text x={RIGHT + 15} y={y(rank) + 4}>
                {rank}
              </text>
            </>
          )}
          {counted(0, rank) > 0 && <circle cx={LEFT} cy={y(rank)} r={1.5 + Math.sqrt(counted(0, rank))} />}
          {counted(1, rank) > 0 && <circle cx={RIGHT} cy={y(rank)} r={1.5 + Math.sqrt(counted(1, rank))} />}
        </g>
      ))}
      {counted(0, 1) > 0 && (
        <text x={LEFT - 30} y={y(1) + 4} textAnchor="end" className="count">
          {counted(0, 1)} ×
        </text>
      )}
      {counted(1, 1) > 0 && (
        <text x={RIGHT + 30} y={y(1) + 4} className="count">
          × {counted(1, 1)}
        </text>
      )}
    </svg>
  );
}
