// The rank flow: one lane a stage, one thread a chunk, its height the rank.
// Threads of relevant chunks are in the answer colour; a cut thread shows where a chunk leaves play.
import { scaleLinear } from "d3-scale";
import { linkHorizontal } from "d3-shape";
import type { TracedChunk } from "../../api/client";
import { markerPath } from "../../shell/Marker";
import { mark, pictureKeys } from "../../shell/pictureKeys";

export interface Lane {
  id: string;
  title: string;
  kind: string;
  chunks: number[];
  /** How many go on from here; a dashed line is drawn below them. */
  passes?: number;
}

export const ROWS = 20;
const TOP = 34;
const STEP = 22;
const link = linkHorizontal<unknown, [number, number]>()
  .source((d) => (d as [[number, number], [number, number]])[0])
  .target((d) => (d as [[number, number], [number, number]])[1]);

export function RankFlow({
  lanes,
  links,
  chunks,
  chosen,
  choose,
  width = 560,
  passText,
}: {
  lanes: Lane[];
  links: [from: number, to: number][];
  chunks: Map<number, TracedChunk>;
  chosen: number | null;
  choose: (chunk: number) => void;
  width?: number;
  passText?: (lane: Lane) => string;
}) {
  const rows = Math.max(...lanes.map((lane) => Math.min(lane.chunks.length, ROWS)), 1);
  const height = TOP + rows * STEP + 16;
  const x = scaleLinear()
    .domain([0, Math.max(lanes.length - 1, 1)])
    .range([58, width - 58]);
  const firstLane = lanes.findIndex((lane) => lane.chunks.length > 0);
  const y = (rank: number) => TOP + (rank - 0.5) * STEP;
  const tone = (lane: Lane) => `var(--${lane.kind})`;
  const relevant = (chunk: number) => chunks.get(chunk)?.relevant ?? false;
  const classes = (chunk: number) =>
    `thread ${relevant(chunk) ? "relevant" : ""} ${chosen === chunk ? "chosen" : chosen !== null && !relevant(chunk) ? "faded" : ""}`;
  return (
    <svg
      className="flow"
      viewBox={`0 0 ${width} ${height}`}
      role="group"
      aria-label="Rank flow"
      aria-description={described(lanes, relevant)}
      onKeyDown={pictureKeys}
      style={{ width: "100%", maxHeight: 470 }}
    >
      {lanes.map((lane, column) => (
        <g key={lane.id}>
          <text
            x={x(column)}
            y={16}
            textAnchor="middle"
            fontWeight={700}
            style={{ fill: tone(lane), fontSize: 14 }}
          >
            {lane.title}
          </text>
          <line
            className="lane"
            x1={x(column)}
            x2={x(column)}
            y1={TOP}
            y2={TOP + Math.max(Math.min(lane.chunks.length, ROWS), 1) * STEP}
          />
          {lane.chunks.length === 0 && (
            <text x={x(column)} y={TOP + 60} textAnchor="middle" style={{ fill: "var(--soft)" }}>
              nothing found
            </text>
          )}
        </g>
      ))}
      {links.flatMap(([from, to]) => {
        const source = lanes[from]!;
        const target = lanes[to]!;
        const side = from < to ? 7 : -7;
        const shown = source.chunks.slice(0, ROWS);
        return shown.map((chunk, row) => {
          const there = target.chunks.indexOf(chunk);
          const start: [number, number] = [x(from) + side, y(row + 1)];
          const gone = there < 0 || there >= ROWS;
          const end: [number, number] = gone
            ? [x(from) + (x(to) - x(from)) * 0.55, TOP + rows * STEP + 8]
            : [x(to) - side, y(there + 1)];
          return (
            <path
              key={`${from}-${to}-${chunk}`}
              className={`${classes(chunk)} ${gone ? "cut" : ""}`}
              style={
                relevant(chunk) ? undefined : { stroke: tone(source.kind === "fused" ? target : source) }
              }
              d={link([start, end]) ?? ""}
            />
          );
        });
      })}
      {lanes.map((lane, column) => {
        const right = column === lanes.length - 1;
        const left = column === 0;
        return lane.chunks.slice(0, ROWS).map((chunk, row) => {
          const near = right ? 1 : left ? -1 : 0;
          return (
            <g
              key={`${lane.id}-${chunk}`}
              className="node"
              {...mark(
                `${lane.title} rank ${row + 1}, chunk ${chunk}${relevant(chunk) ? ", holds an answer" : ""}: ${chunks.get(chunk)?.text.slice(0, 60) ?? ""}`,
                column === firstLane && row === 0,
                chosen === chunk,
              )}
              data-lane={lane.id}
              data-node={chunk}
              onClick={() => choose(chunk)}
            >
              <title>{chunks.get(chunk)?.text.slice(0, 160)}</title>
              <path
                d={markerPath(lane.kind)}
                transform={`translate(${x(column) - 7},${y(row + 1) - 7}) scale(.88)`}
                fill={relevant(chunk) ? "var(--answer)" : tone(lane)}
                stroke={chosen === chunk ? "var(--ink)" : "none"}
                strokeWidth={2}
              />
              <text
                x={x(column) + (near === 0 ? 13 : 16 * near)}
                y={y(row + 1) + 4}
                textAnchor={near < 0 ? "end" : "start"}
                fontWeight={relevant(chunk) ? 700 : 400}
              >
                {row + 1}
              </text>
            </g>
          );
        });
      })}
      {lanes.map((lane, column) =>
        lane.passes !== undefined && lane.passes < Math.min(lane.chunks.length, ROWS) ? (
          <g key={`pass-${lane.id}`}>
            <line
              x1={x(column) - 46}
              x2={x(column) + 46}
              y1={TOP + lane.passes * STEP}
              y2={TOP + lane.passes * STEP}
              stroke="var(--lost)"
              strokeDasharray="4 3"
            />
            {passText && (
              <text
                x={x(column) - 48}
                y={TOP + lane.passes * STEP - 3}
                textAnchor="end"
                style={{ fill: "var(--lost)", fontSize: 11 }}
              >
                {passText(lane)}
              </text>
            )}
          </g>
        ) : null,
      )}
    </svg>
  );
}

/** The picture in a sentence: where the first chunk with an answer stands in every lane. */
function described(lanes: Lane[], relevant: (chunk: number) => boolean): string {
  const said = lanes.map((lane) => {
    const rank = lane.chunks.findIndex(relevant) + 1;
    return `${lane.title}: ${rank ? `first answer at rank ${rank} of ${lane.chunks.length}` : `no answer among ${lane.chunks.length}`}`;
  });
  return `${said.join("; ")}. Arrow keys go from chunk to chunk.`;
}
