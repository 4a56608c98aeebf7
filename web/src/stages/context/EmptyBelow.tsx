// When the context stays empty: how likely each question is answered at all, and a line to drag between them.
import { scaleLinear } from "d3-scale";
import { useRef, useState } from "react";
import { useLine } from "../../api/queries";
import { score } from "../../text/numbers";
import { useFloor } from "../reranked/api";
import { TakeUp } from "../shared/TakeUp";
import { leftEmpty, type Answered } from "./empty";

const WIDTH = 620;
const HEIGHT = 96;
const EDGE = 14;
const ROWS = [30, 62];
const x = scaleLinear([0, 1], [EDGE, WIDTH - EDGE]).clamp(true);

export function EmptyBelow() {
  const floor = useFloor();
  const line = useLine();
  const told = (floor.data?.questions ?? []).flatMap(({ answerable, answered, delivered }) =>
    answered === null ? [] : [{ answerable, answered, delivered }],
  );
  if (!told.length || !line.data) return null;
  return <Picture told={told} now={line.data.recipe.body.select.empty_below} />;
}

function Picture({ told, now }: { told: Answered[]; now: number | null }) {
  const [least, setLeast] = useState(now ?? 0);
  const drawing = useRef<SVGSVGElement>(null);
  const found = leftEmpty(told, least);
  const move = (value: number) => setLeast(Math.min(Math.max(Number(value.toFixed(3)), 0), 1));
  const wanted = least <= 0 ? null : least;

  function drag(event: React.PointerEvent) {
    if (event.buttons !== 1 || !drawing.current) return;
    const box = drawing.current.getBoundingClientRect();
    move(x.invert(((event.clientX - box.left) / box.width) * WIDTH));
  }

  return (
    <section className="empty-below">
      <h3>
        When to say that nothing was found{" "}
        <span className="soft fw-normal">probability that anything answers; right is likelier</span>
      </h3>
      <div className="d-flex gap-3 align-items-start">
        <svg
          ref={drawing}
          role="group"
          aria-label={`Probabilities of ${told.length} questions`}
          viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
          onPointerDown={(event) => {
            event.currentTarget.setPointerCapture(event.pointerId);
            drag(event);
          }}
          onPointerMove={drag}
        >
          {["answerable", "unanswerable"].map((name, row) => (
            <text key={name} className="side" x={EDGE} y={ROWS[row]! - 12}>
              {name}
            </text>
          ))}
          {told.map((one, place) =>
            one.answerable ? (
              <line
                key={place}
                className="tick yes"
                x1={x(one.answered)}
                x2={x(one.answered)}
                y1={ROWS[0]! - 7}
                y2={ROWS[0]! + 7}
              />
            ) : (
              <circle key={place} className="tick no" cx={x(one.answered)} cy={ROWS[1]} r={4} />
            ),
          )}
          {x.ticks(5).map((tick) => (
            <text key={tick} className="tick-text" x={x(tick)} y={HEIGHT - 4} textAnchor="middle">
              {score(tick)}
            </text>
          ))}
          <g
            className="handle"
            role="slider"
            tabIndex={0}
            aria-label="Empty below"
            aria-valuemin={0}
            aria-valuemax={1}
            aria-valuenow={least}
            aria-valuetext={`${score(least)}: ${found.empty} of ${found.unanswerable} unanswerable left empty, ${found.lost} of ${found.delivered} answers lost`}
            onKeyDown={(event) => {
              if (event.key === "ArrowLeft") move(least - 0.01);
              if (event.key === "ArrowRight") move(least + 0.01);
            }}
          >
            <rect
              className="under"
              x={EDGE}
              y={8}
              width={Math.max(x(least) - EDGE, 0)}
              height={HEIGHT - 28}
            />
            <line x1={x(least)} x2={x(least)} y1={8} y2={HEIGHT - 20} />
            <path d={`M${x(least) - 6},2 h12 l-6,8 Z`} />
          </g>
        </svg>
        <div className="small-text num">
          <div>
            Empty below <strong>{wanted === null ? "none" : score(least)}</strong>
          </div>
          <div>
            {found.empty} of {found.unanswerable} unanswerable left empty
          </div>
          <div className={found.lost ? "lost" : ""}>
            {found.lost} of {found.delivered} answers lost
          </div>
          <div className="mt-1">
            <TakeUp
              inForce={wanted === now}
              changed={(body) => ({
                ...body,
                select: { ...(body.select as Record<string, unknown>), empty_below: wanted },
              })}
              note={wanted === null ? "Never left empty" : `Empty below ${score(least)}`}
            >
              Use this
            </TakeUp>
          </div>
        </div>
      </div>
    </section>
  );
}
