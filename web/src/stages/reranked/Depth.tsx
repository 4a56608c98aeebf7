// How deep the shortlist should be: recall and time at every depth, measured on the labelled questions.
import { scaleLinear, scaleSqrt } from "d3-scale";
import { useState } from "react";
import { useDepths, useStartDepths, type DepthPoint, type Depths } from "./api";
import { mark, pictureKeys } from "../../shell/pictureKeys";
import { Shown } from "../../shell/states";
import { milliseconds } from "../../text/numbers";
import { Measured } from "../shared/Measured";
import { TakeUp } from "../shared/TakeUp";
import { withRerank } from "./settings";

const WIDTH = 600;
const EDGE = { left: 48, right: 20 };
const RECALL = { top: 12, bottom: 212 };
const TIME = { top: 236, bottom: 316 };
const HEIGHT = 356;
// Each k has a dash of its own, so that the picture can be read without colour.
const DASHES: Record<string, string> = { 1: "", 3: "7 3", 5: "2 3" };

export function Depth() {
  const depths = useDepths();
  const start = useStartDepths();
  return (
    <Shown query={depths} what="Reading what was measured">
      {(data) => (
        <Measured
          job={data.job}
          there={data.points.length > 0}
          start={start}
          title="No depth has been measured with this scorer yet"
          button="Measure depths"
          why="Labelled questions are reranked at the greatest depth that fusion hands on, which gives recall at every smaller one; some are scored again at each depth to take its time."
        >
          {(again) => <Picture data={data} again={again} />}
        </Measured>
      )}
    </Shown>
  );
}

function Picture({ data, again }: { data: Depths; again: (() => void) | null }) {
  const { points, cutoffs } = data;
  const place = points.findIndex((point) => point.depth === data.shortlist);
  const [chosen, setChosen] = useState(place < 0 ? points.length - 1 : place);
  const point = points[chosen]!;
  const deepest = points[points.length - 1]!.depth;
  const values = points.flatMap((row) => Object.values(row.recall));
  const low = Math.max(0, Math.floor(10 * Math.min(...values) - 0.5) / 10);
  const high = Math.min(1, Math.ceil(10 * Math.max(...values)) / 10);
  const x = scaleSqrt([1, deepest], [EDGE.left + 12, WIDTH - EDGE.right - 12]);
  const y = scaleLinear([low, high], [RECALL.bottom, RECALL.top]);
  const slowest = Math.max(...points.map(({ seconds }) => seconds), 1e-6);
  const t = scaleLinear([0, slowest * 1.08], [TIME.bottom, TIME.top]);
  return (
    <div className="depth">
      <figure className="m-0">
        <div className="small-text soft">
          recall after reranking; up is better{" "}
          {cutoffs.map((k) => (
            <span key={k} className="ms-3">
              <svg width="26" height="8" aria-hidden="true">
                <line x1="0" x2="26" y1="4" y2="4" className="recall" strokeDasharray={DASHES[k]} />
              </svg>{" "}
              recall@{k}
            </span>
          ))}
        </div>
        <svg
          viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
          role="group"
          aria-label="Recall and time by shortlist depth"
          aria-description="Arrow keys go from depth to depth, Enter chooses."
          onKeyDown={pictureKeys}
        >
          {y.ticks(5).map((tick) => (
            <g key={tick} className="tick">
              <line x1={EDGE.left} x2={WIDTH - EDGE.right} y1={y(tick)} y2={y(tick)} />
              <text x={EDGE.left - 6} y={y(tick) + 4} textAnchor="end">
                {tick.toFixed(2).replace(/^0/, "")}
              </text>
            </g>
          ))}
          <rect
            className="pick"
            x={x(point.depth) - 13}
            width={26}
            y={RECALL.top - 6}
            height={TIME.bottom - RECALL.top + 6}
          />
          {cutoffs.map((k) => (
            <g key={k}>
              <polyline
                className="recall"
                strokeDasharray={DASHES[k]}
                points={points.map((row) => `${x(row.depth)},${y(row.recall[k] ?? 0)}`).join(" ")}
              />
              {points.map((row) => (
                <circle
                  key={row.depth}
                  className="recall"
                  cx={x(row.depth)}
                  cy={y(row.recall[k] ?? 0)}
                  r="3.5"
                />
              ))}
            </g>
          ))}
          <text className="axis" x={EDGE.left} y={TIME.top - 6}>
            time a question, {milliseconds(slowest)} at most; down is better
          </text>
          {points.map((row, number) => (
            <g key={row.depth}>
              <rect
                className="time"
                x={x(row.depth) - 6}
                width={12}
                y={t(row.seconds)}
                height={TIME.bottom - t(row.seconds)}
              />
              <text
                className={`tick ${row.depth === data.shortlist ? "in-force" : ""}`}
                x={x(row.depth)}
                y={TIME.bottom + 16}
                textAnchor="middle"
              >
                {row.depth}
              </text>
              <rect
                className="touch"
                x={x(row.depth) - 13}
                width={26}
                y={RECALL.top}
                height={TIME.bottom - RECALL.top + 20}
                {...mark(
                  `Depth ${row.depth}: ${cutoffs.map((k) => `recall@${k} ${(row.recall[k] ?? 0).toFixed(3)}`).join(", ")}, ${milliseconds(row.seconds)} a question`,
                  number === chosen,
                  number === chosen,
                )}
                onClick={() => setChosen(number)}
              >
                <title>{`depth ${row.depth}: ${milliseconds(row.seconds)} a question`}</title>
              </rect>
            </g>
          ))}
          <text className="axis" x={(WIDTH + EDGE.left) / 2} y={HEIGHT - 6} textAnchor="middle">
            depth of the shortlist, in chunks
          </text>
        </svg>
      </figure>
      <Chosen point={point} data={data} again={again} />
    </div>
  );
}

function Chosen({ point, data, again }: { point: DepthPoint; data: Depths; again: (() => void) | null }) {
  return (
    <div>
      <div className="small-text soft mb-2">
        Means over {data.questions} questions.{" "}
        {again && (
          <button type="button" className="btn btn-link btn-sm p-0 align-baseline" onClick={again}>
            Measure again
          </button>
        )}
      </div>
      <div className="card-passage">
        <h3>Depth {point.depth}</h3>
        <table className="small-text num facts-table">
          <tbody>
            {data.cutoffs.map((k) => (
              <tr key={k}>
                <th scope="row">recall@{k}</th>
                <td>{(point.recall[k] ?? 0).toFixed(3).replace(/^0/, "")}</td>
              </tr>
            ))}
            <tr>
              <th scope="row">time a question</th>
              <td>{milliseconds(point.seconds)}</td>
            </tr>
          </tbody>
        </table>
        <TakeUp
          inForce={point.depth === data.shortlist}
          changed={(body) => withRerank(body, { shortlist: point.depth })}
          note={`Shortlist of ${point.depth}`}
        >
          Use this depth
        </TakeUp>
      </div>
    </div>
  );
}
