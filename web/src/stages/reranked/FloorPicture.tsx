// The floor as a line to drag: scores of all shortlists, and what would fall under it.
import { scaleLinear } from "d3-scale";
import { useRef, useState } from "react";
import { useFloor, type Floor } from "./api";
import { Shown } from "../../shell/states";
import { percent, score } from "../../text/numbers";
import { TakeUp } from "../shared/TakeUp";
import { binned, underFloor, withRerank } from "./settings";

const WIDTH = 620;
const HEIGHT = 300;
const EDGE = { left: 20, right: 20, top: 16, bottom: 44 };
const MIDDLE = (HEIGHT - EDGE.bottom + EDGE.top) / 2;
const STEPS = 40;

export function FloorPicture() {
  return (
    <Shown query={useFloor()} what="Reading the shortlists">
      {(data) => (data.questions.length ? <Picture data={data} /> : <p className="soft">No trial yet.</p>)}
    </Shown>
  );
}

function Picture({ data }: { data: Floor }) {
  const all = data.questions.flatMap((row) => row.scores);
  const low = data.calibrated ? 0 : Math.min(...all);
  const high = data.calibrated ? 1 : Math.max(...all);
  const [floor, setFloor] = useState(data.floor ?? low);
  const drawing = useRef<SVGSVGElement>(null);
  const x = scaleLinear([low, high], [EDGE.left, WIDTH - EDGE.right]).clamp(true);
  const of = (wanted: boolean) =>
    data.questions.flatMap((row) => row.scores.filter((_, place) => row.relevant[place] === wanted));
  const up = binned(of(true), low, high, STEPS);
  const down = binned(of(false), low, high, STEPS);
  // Most chunks are no answers: each side has its own scale, and roots keep small counts to be seen.
  const tall = (count: number, most: number) =>
    Math.sqrt(count / Math.max(most, 1)) * (MIDDLE - EDGE.top - 10);
  const found = underFloor(data.questions, floor, data.k);
  const step = (high - low) / 100;
  const move = (value: number) => setFloor(Math.min(Math.max(Number(value.toFixed(3)), low), high));

  function drag(event: React.PointerEvent) {
    if (event.buttons !== 1 || !drawing.current) return;
    const box = drawing.current.getBoundingClientRect();
    move(x.invert(((event.clientX - box.left) / box.width) * WIDTH));
  }

  return (
    <div className="floor">
      <figure className="m-0">
        <svg
          ref={drawing}
          role="group"
          aria-label={`Scores of ${of(true).length} relevant and ${of(false).length} other chunks`}
          viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
          onPointerDown={(event) => {
            event.currentTarget.setPointerCapture(event.pointerId);
            drag(event);
          }}
          onPointerMove={drag}
        >
          <text x={WIDTH - EDGE.right} y={EDGE.top + 10} textAnchor="end" className="side answer">
            relevant chunks, {of(true).length.toLocaleString()}
          </text>
          <text x={WIDTH - EDGE.right} y={HEIGHT - EDGE.bottom - 6} textAnchor="end" className="side">
            other chunks, {of(false).length.toLocaleString()}
          </text>
          {up.map((count, bin) => bar(bin, MIDDLE - tall(count, Math.max(...up)), MIDDLE, "yes", count))}
          {down.map((count, bin) => bar(bin, MIDDLE, MIDDLE + tall(count, Math.max(...down)), "no", count))}
          <line className="ground" x1={EDGE.left} x2={WIDTH - EDGE.right} y1={MIDDLE} y2={MIDDLE} />
          {x.ticks(6).map((tick) => (
            <text key={tick} className="tick" x={x(tick)} y={HEIGHT - EDGE.bottom + 16} textAnchor="middle">
              {score(tick)}
            </text>
          ))}
          <text className="axis" x={WIDTH / 2} y={HEIGHT - 6} textAnchor="middle">
            {data.measure}; right is better
          </text>
          <g
            className="line"
            role="slider"
            tabIndex={0}
            aria-label="Floor"
            aria-valuemin={low}
            aria-valuemax={high}
            aria-valuenow={floor}
            aria-valuetext={`${score(floor)}: ${found.hits} of ${found.all} chunks dropped, ${found.lost} answers lost`}
            onKeyDown={(event) => {
              if (event.key === "ArrowLeft") move(floor - step);
              if (event.key === "ArrowRight") move(floor + step);
            }}
          >
            <rect
              className="under"
              x={EDGE.left}
              y={EDGE.top}
              width={x(floor) - EDGE.left}
              height={HEIGHT - EDGE.bottom - EDGE.top}
            />
            <line x1={x(floor)} x2={x(floor)} y1={EDGE.top} y2={HEIGHT - EDGE.bottom} />
            <path d={`M${x(floor) - 7},${EDGE.top - 9} h14 l-7,9 Z`} />
          </g>
        </svg>
        <figcaption className="small-text soft">
          All shortlists of {data.questions.length} questions; heights grow with the root of the count, each
          side in its own scale. Drag the line, or move it with the arrow keys.
        </figcaption>
      </figure>
      <Found data={data} floor={floor} low={low} found={found} move={move} />
    </div>
  );

  function bar(bin: number, top: number, bottom: number, kind: string, count: number) {
    const from = x(low + ((high - low) * bin) / STEPS);
    const wide = x(low + ((high - low) * (bin + 1)) / STEPS) - from - 1;
    return (
      <rect key={`${kind}${bin}`} className={kind} x={from} width={wide} y={top} height={bottom - top}>
        <title>{`${count} chunks`}</title>
      </rect>
    );
  }
}

function Found({
  data,
  floor,
  low,
  found,
  move,
}: {
  data: Floor;
  floor: number;
  low: number;
  move: (floor: number) => void;
  found: ReturnType<typeof underFloor>;
}) {
  const wanted = floor <= low ? null : floor;
  return (
    <div className="card-passage">
      <h3>
        Floor <span className="num">{wanted === null ? "none" : score(floor)}</span>
      </h3>
      <table className="small-text num facts-table">
        <tbody>
          <tr>
            <th scope="row">chunks dropped</th>
            <td>
              {found.hits.toLocaleString()} of {found.all.toLocaleString()}
            </td>
          </tr>
          <tr className={found.lost ? "lost" : ""}>
            <th scope="row">answers lost</th>
            <td>
              {found.lost} of {found.delivered} that go on
            </td>
          </tr>
          <tr>
            <th scope="row">unanswerable, rightly left empty</th>
            <td>
              {found.empty} of {found.unanswerable}
            </td>
          </tr>
        </tbody>
      </table>
      <p className="small-text soft my-2">
        {data.calibrated
          ? "Calibrated: of passages at .5, about half answer. It was fitted on other documents; see what it does on yours."
          : "This scorer is not calibrated: the floor is a score of its own scale."}
      </p>
      <TakeUp
        inForce={wanted === data.floor}
        changed={(body) => withRerank(body, { floor: wanted })}
        note={wanted === null ? "No floor" : `Floor at ${score(wanted)}`}
      >
        Use this floor
      </TakeUp>
      <Promises data={data} unanswerable={found.unanswerable} move={move} />
    </div>
  );
}

/** Floors by what they may lose on questions like these. */
function Promises({
  data,
  unanswerable,
  move,
}: {
  data: Floor;
  unanswerable: number;
  move: (floor: number) => void;
}) {
  const wanting = data.promises.find((one) => one.floor === null);
  return (
    <section className="mt-3" aria-label="Floors with a promise">
      <h3>
        With a promise{" "}
        <span className="soft fw-normal">
          of what is lost at most, {Math.round(100 * (data.promises[0]?.confidence ?? 0))} % sure
        </span>
      </h3>
      <table className="small-text num facts-table">
        <tbody>
          {data.promises.map((one) => (
            <tr key={one.most}>
              <th scope="row">{percent(one.most)} of answers</th>
              <td>
                {one.floor === null ? (
                  <span className="soft">takes {one.needs} questions without a loss</span>
                ) : (
                  <>
                    <button
                      type="button"
                      className="btn btn-link btn-sm p-0"
                      onClick={() => move(down(one.floor!))}
                    >
                      floor {score(one.floor)}
                    </button>
                    , leaves {one.empty} of {unanswerable} empty
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="small-text soft mb-0">
        For questions like these {data.promises[0]?.questions ?? 0}.{" "}
        {wanting && "Fewer questions can promise less."}
      </p>
    </section>
  );
}

/** To three digits and not above, so that nothing more falls under it. */
const down = (floor: number): number => Math.floor(floor * 1000) / 1000;
