// Speed against exactness, measured on the vectors of this very index; a point is chosen with a click.
import { scaleLog, scalePow } from "d3-scale";
import { useState } from "react";
import { useFamily } from "../../api/catalogue";
import { useStartSurvey, useSurvey, type DenseStage, type Point } from "./api";
import { mark, pictureKeys } from "../../shell/pictureKeys";
import { Shown } from "../../shell/states";
import { summaryOf, titleOf } from "../../recipe/kinds";
import { bytes, duration, milliseconds } from "../../text/numbers";
import { Measured } from "../shared/Measured";
import { TakeUp } from "../shared/TakeUp";
import { frontier, withSettings, withStructure, type Structure } from "./structures";

const WIDTH = 560;
const HEIGHT = 360;
const EDGE = { left: 46, right: 18, top: 14, bottom: 40 };
// Each structure has a shape of its own, in the order of menus, so that the picture can be read without colour.
const SHAPES = [
  "M0,-7 L7,0 L0,7 L-7,0 Z",
  "M-5,-5 H5 V5 H-5 Z",
  "M0,-6 L6,5 H-6 Z",
  "M-5.5,0 A5.5,5.5 0 1,0 5.5,0 A5.5,5.5 0 1,0 -5.5,0 Z",
  "M0,6 L6,-5 H-6 Z",
  "M-2,-6 H2 V-2 H6 V2 H2 V6 H-2 V2 H-6 V-2 H-2 Z",
  "M-6,-2 H6 V2 H-6 Z",
  "M-2,-6 H2 V6 H-2 Z",
];
const shapeOf = (place: number) => SHAPES[Math.max(place, 0) % SHAPES.length];

/** How a point is told from others: by a structure, or by the title that it brings. */
interface Naming {
  groups: string[];
  group: (point: Point) => number;
  words: (point: Point) => string;
  summary: (point: Point) => string;
}

function useNaming(points: Point[]): Naming {
  const kinds = useFamily("structures");
  const titles = [...new Set(points.map(({ title }) => title).filter(Boolean))];
  if (titles.length)
    return {
      groups: titles,
      group: ({ title }) => titles.indexOf(title),
      words: ({ title, summary }) => [title, summary].filter(Boolean).join(", "),
      summary: ({ summary }) => summary,
    };
  const of = (point: Point) => point.structure as Structure;
  return {
    groups: kinds.kinds.map(({ title }) => title),
    group: (point) => kinds.kinds.findIndex(({ name }) => name === of(point).kind),
    words: (point) => `${titleOf(kinds, of(point).kind)}, ${summaryOf(kinds, of(point).kind, of(point))}`,
    summary: (point) => summaryOf(kinds, of(point).kind, of(point)),
  };
}

export function Survey({ branch, stage }: { branch: string | null; stage: DenseStage }) {
  const survey = useSurvey(branch);
  const start = useStartSurvey(branch);
  return (
    <Shown query={survey} what="Reading what was measured">
      {(data) => (
        <Measured
          job={data.job}
          there={data.points.length > 0}
          start={start}
          title="Not measured on these vectors yet"
          button="Measure structures"
          why={`All of them are built over the ${stage.chunks.toLocaleString()} chunks and asked the labelled questions, beside the exact search. It takes ${wait(stage.chunks)}.`}
        >
          {(again) => (
            <Picture
              points={data.points}
              questions={data.questions}
              stage={stage}
              branch={branch}
              again={again}
            />
          )}
        </Measured>
      )}
    </Shown>
  );
}

/** About what a survey takes: building is what grows. */
function wait(chunks: number): string {
  return `about ${duration(5 + chunks / 800)}`;
}

function Picture({
  points,
  questions,
  stage,
  branch,
  again,
}: {
  points: Point[];
  questions: number;
  stage: DenseStage;
  branch: string | null;
  again: (() => void) | null;
}) {
  const own = stage.facts ? (stage.facts.structure as Structure) : (stage.settings as Structure);
  const inForce = points.findIndex((point) => alike(point.structure as Structure, own));
  const [chosen, setChosen] = useState(Math.max(inForce, 0));
  const naming = useNaming(points);
  const point = points[chosen]!;
  const speeds = points.map(({ per_second }) => per_second);
  const least = Math.min(0.9, ...points.map(({ recall }) => recall)) - 0.02;
  const x = scaleLog([Math.min(...speeds) / 1.3, Math.max(...speeds) * 1.3], [EDGE.left, WIDTH - EDGE.right]);
  // Between .9 and 1 lies what one chooses from, so that end of the scale is drawn wider.
  const y = scalePow([Math.max(least, 0), 1.005], [HEIGHT - EDGE.bottom, EDGE.top]).exponent(4);
  const best = frontier(points);
  return (
    <div className="survey">
      <figure className="m-0">
        <div className="small-text soft">recall@10 against the exact search; up is better</div>
        <svg
          viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
          role="group"
          aria-label="Recall against questions a second"
          aria-description={`${points.length} structures; arrow keys go from one to the next, Enter chooses.`}
          onKeyDown={pictureKeys}
        >
          {[0, 0.3, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95, 1]
            .filter((tick) => tick >= least)
            .map((tick) => (
              <g key={tick} className="tick">
                <line x1={EDGE.left} x2={WIDTH - EDGE.right} y1={y(tick)} y2={y(tick)} />
                <text x={EDGE.left - 6} y={y(tick) + 4} textAnchor="end">
                  {tick.toFixed(2).replace(/^0/, "")}
                </text>
              </g>
            ))}
          {x
            .ticks(4)
            .filter((tick) => /^[125]0*$/.test(String(tick)))
            .map((tick) => (
              <text key={tick} className="tick" x={x(tick)} y={HEIGHT - EDGE.bottom + 16} textAnchor="middle">
                {tick.toLocaleString()}
              </text>
            ))}
          <text className="axis" x={(WIDTH + EDGE.left) / 2} y={HEIGHT - 6} textAnchor="middle">
            questions a second, one thread asking; right is faster
          </text>
          <polyline
            className="frontier"
            points={best.map(({ per_second, recall }) => `${x(per_second)},${y(recall)}`).join(" ")}
          />
          {points.map((row, place) => (
            <path
              key={place}
              d={shapeOf(naming.group(row))}
              transform={`translate(${x(row.per_second)},${y(row.recall)})`}
              className={`point ${place === chosen ? "chosen" : ""} ${best.includes(row) ? "best" : ""}`}
              {...mark(
                `${naming.words(row)}, recall ${row.recall.toFixed(3)}, ${Math.round(row.per_second)} questions a second`,
                place === chosen,
                place === chosen,
              )}
              onClick={() => setChosen(place)}
            >
              <title>{`${naming.words(row)}\nrecall ${row.recall.toFixed(3)}, ${Math.round(row.per_second).toLocaleString()} questions a second`}</title>
            </path>
          ))}
        </svg>
        <figcaption className="shapes small-text">
          {naming.groups.map((title, place) => (
            <span key={title}>
              <svg width="14" height="14" viewBox="-8 -8 16 16" aria-hidden="true">
                <path d={shapeOf(place)} className="point best" />
              </svg>{" "}
              {title}
            </span>
          ))}
        </figcaption>
      </figure>
      <div>
        <div className="small-text soft mb-2">
          Means over {questions} questions. Filled points are beaten by no other in both.{" "}
          {again && (
            <button type="button" className="btn btn-link btn-sm p-0 align-baseline" onClick={again}>
              Measure again
            </button>
          )}
        </div>
        <Chosen point={point} naming={naming} inForce={chosen === inForce} stage={stage} branch={branch} />
      </div>
    </div>
  );
}

function Chosen({
  point,
  naming,
  inForce,
  stage,
  branch,
}: {
  point: Point;
  naming: Naming;
  inForce: boolean;
  stage: DenseStage;
  branch: string | null;
}) {
  const settings = point.structure as Structure;
  const rows: [string, string][] = [
    ["recall@10", point.recall.toFixed(3)],
    ["a question", milliseconds(1 / point.per_second)],
    ["questions a second", Math.round(point.per_second).toLocaleString()],
    ["memory beside the vectors", point.bytes ? bytes(point.bytes) : "none"],
    [
      "a chunk",
      point.bytes ? `${Math.round(point.bytes / Math.max(stage.chunks, 1)).toLocaleString()} bytes` : "none",
    ],
    ["built in", point.seconds ? duration(point.seconds) : "nothing to build"],
  ];
  return (
    <div className="card-passage" data-structure={settings.kind}>
      <h3>
        {naming.groups[naming.group(point)]} <span className="soft fw-normal">{naming.summary(point)}</span>
      </h3>
      <table className="small-text num facts-table">
        <tbody>
          {rows.map(([label, value]) => (
            <tr key={label}>
              <th scope="row">{label}</th>
              <td>{value}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <TakeUp
        inForce={inForce}
        changed={(body) =>
          point.title ? withSettings(body, branch, settings) : withStructure(body, branch, settings)
        }
        note={`${point.title ? `Branch ${branch ?? "dense"}` : "Dense structure"}: ${naming.words(point)}`}
      >
        Use and build
      </TakeUp>
    </div>
  );
}

function alike(one: Structure, other: Structure): boolean {
  return Object.entries(one).every(([name, value]) => other[name] === value);
}
