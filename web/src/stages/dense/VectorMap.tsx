// All chunks on the two directions in which they differ most, with the question, its hits and its answer.
import { scaleLinear } from "d3-scale";
import { useMemo, useState } from "react";
import { useNeighbours, useVectorMap, type VectorMapData } from "./api";
import { mark, pictureKeys } from "../../shell/pictureKeys";
import { Shown } from "../../shell/states";
import { percent, score } from "../../text/numbers";

const WIDTH = 560;
const HEIGHT = 360;
const EDGE = 14;
const DIAMOND = "M0,-7 L7,0 L0,7 L-7,0 Z";
const dot = (r: number) => `M${-r},0 a${r},${r} 0 1,0 ${2 * r},0 a${r},${r} 0 1,0 ${-2 * r},0`;

export function VectorMap({
  question,
  text,
  branch,
}: {
  question: number | null;
  text: string | null;
  branch: string | null;
}) {
  const map = useVectorMap(question, text, branch);
  const [chosen, setChosen] = useState<number | null>(null);
  return (
    <Shown query={map} what="Laying out the chunks">
      {(data) => {
        const chunk = chosen ?? data.answers[0] ?? data.hits[0] ?? data.chunks[0] ?? null;
        return (
          <div className="vector-map">
            <Picture data={data} chosen={chunk} choose={setChosen} />
            <Neighbours chunk={chunk} choose={setChosen} branch={branch} />
          </div>
        );
      }}
    </Shown>
  );
}

function Picture({
  data,
  chosen,
  choose,
}: {
  data: VectorMapData;
  chosen: number | null;
  choose: (chunk: number) => void;
}) {
  const [hits, answers] = useMemo(() => [new Set(data.hits), new Set(data.answers)], [data]);
  const xs = data.question ? [...data.x, data.question[0]!] : data.x;
  const ys = data.question ? [...data.y, data.question[1]!] : data.y;
  const x = scaleLinear([Math.min(...xs), Math.max(...xs)], [EDGE, WIDTH - EDGE]);
  const y = scaleLinear([Math.min(...ys), Math.max(...ys)], [HEIGHT - EDGE, EDGE]);
  const order = data.chunks.map((_, place) => place);
  const weight = (place: number) =>
    (answers.has(data.chunks[place]!) ? 4 : 0) + (hits.has(data.chunks[place]!) ? 2 : 0);
  order.sort((a, b) => weight(a) - weight(b));
  return (
    <figure className="m-0">
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        role="group"
        aria-label="Chunks on their two principal axes"
        aria-description={`${data.chunks.length} chunks; arrow keys go to the next one that way, Enter shows its neighbours.`}
        onKeyDown={pictureKeys}
      >
        {order.map((place) => {
          const number = data.chunks[place]!;
          const kind = answers.has(number) ? "answer" : hits.has(number) ? "hit" : "";
          const at = `translate(${x(data.x[place]!)},${y(data.y[place]!)})`;
          return (
            <path
              key={number}
              d={kind === "answer" ? DIAMOND : dot(kind ? 4 : 2.6)}
              transform={at}
              className={`spot ${kind} ${number === chosen ? "chosen" : ""}`}
              data-spot={number}
              {...mark(
                `chunk ${number}${kind ? `, ${kind}` : ""}`,
                chosen === null ? place === order[0] : number === chosen,
                number === chosen,
              )}
              onClick={() => choose(number)}
            />
          );
        })}
        {data.question && (
          <g transform={`translate(${x(data.question[0]!)},${y(data.question[1]!)})`} className="asked">
            <path d="M-8,0 H8 M0,-8 V8" />
            <text x={11} y={4}>
              question
            </text>
          </g>
        )}
      </svg>
      <figcaption className="small-text soft">
        {data.chunks.length < data.total
          ? `${data.chunks.length.toLocaleString()} of ${data.total.toLocaleString()} chunks. `
          : `${data.total.toLocaleString()} chunks. `}
        The two directions hold {percent(data.shares.reduce((sum, share) => sum + share, 0))} of all
        differences, so near here need not be near in the encoder.{" "}
        {data.question && (
          <>
            <span className="key of-hits" /> first {data.hits.length} hits <span className="key of-answer" />{" "}
            answer
          </>
        )}
      </figcaption>
    </figure>
  );
}

function Neighbours({
  chunk,
  choose,
  branch,
}: {
  chunk: number | null;
  choose: (chunk: number) => void;
  branch: string | null;
}) {
  const found = useNeighbours(chunk, branch);
  if (chunk === null) return null;
  return (
    <Shown query={found} what="Finding neighbours">
      {(data) => (
        <div className="neighbours">
          <div className="card-passage mb-2">
            <div className="small-text soft mb-1">
              chunk {data.chunk.number}, {data.chunk.title}
            </div>
            <div className="passage clipped">{data.chunk.text.replace(/\s+/g, " ")}</div>
          </div>
          <h3>
            Nearest chunks <span className="soft fw-normal">{data.measure}</span>
          </h3>
          {data.nearest.map((row) => (
            <button key={row.number} type="button" className="hit" onClick={() => choose(row.number)}>
              <span className="rank num">{score(row.score)}</span>
              <span className="where">{row.title}</span>
              <span className="num small-text soft">chunk {row.number}</span>
              <span className="start">{row.text.replace(/\s+/g, " ").slice(0, 110)}</span>
            </button>
          ))}
        </div>
      )}
    </Shown>
  );
}
