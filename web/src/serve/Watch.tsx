// What was served in a time: load over it, times by stage, what stayed empty, and how versions did.
import { scaleLinear } from "d3-scale";
import { useState } from "react";
import { Segments } from "../shell/Segments";
import { Shown } from "../shell/states";
import { counted, milliseconds, percent, score } from "../text/numbers";
import { Examples } from "./Examples";
import { useFigures, type Figures, type Published } from "./api";

const HOURS: [string, string][] = [
  ["1", "hour"],
  ["24", "day"],
  ["168", "week"],
];

export function Watch({ published }: { published: Published }) {
  const [hours, setHours] = useState("24");
  const figures = useFigures(published.id, Number(hours));
  return (
    <section className="watch" aria-label="Watch">
      <div className="d-flex align-items-center gap-3 mb-2">
        <span className="soft small-text">The last</span>
        <Segments options={HOURS} value={hours} choose={setHours} />
        {figures.data && figures.data.of > figures.data.asked && (
          <span className="soft small-text num">
            figures of the latest {figures.data.asked.toLocaleString()} of {figures.data.of.toLocaleString()}
          </span>
        )}
      </div>
      <Shown query={figures} what="Reading what was served">
        {(data) => (data.asked ? <Told figures={data} /> : <Nothing published={published} />)}
      </Shown>
    </section>
  );
}

/** How it is asked, where nobody has yet. */
function Nothing({ published }: { published: Published }) {
  return (
    <div className="nothing-served">
      <strong>Nobody asked in this time</strong>
      <p className="soft">
        Make a key under Keys and ask like this, or try it here as an assistant's user would.
      </p>
      <Examples published={published} />
    </div>
  );
}

function Told({ figures }: { figures: Figures }) {
  const answered = figures.asked - figures.failed;
  const parts: [string, string, string][] = [
    ["asked", figures.asked.toLocaleString(), ""],
    ["without a passage", percent(figures.empty / Math.max(answered, 1)), figures.empty ? "lost" : ""],
    ["failed", figures.failed.toLocaleString(), figures.failed ? "lost" : ""],
    ["liked : not", `${figures.up} : ${figures.down}`, ""],
  ];
  return (
    <>
      <dl className="served-figures">
        {parts.map(([name, value, tone]) => (
          <div key={name}>
            <dd className={`num ${tone}`}>{value}</dd>
            <dt>{name}</dt>
          </div>
        ))}
      </dl>
      <div className="watch-split">
        <div>
          <h3>Questions over the time</h3>
          <Load figures={figures} />
        </div>
        <div>
          <h3>Time by stage: median · 95th · 99th of 100; shorter is better</h3>
          <Times figures={figures} />
        </div>
      </div>
      {figures.versions.length > 0 && <Liked figures={figures} />}
      {figures.beside && <Beside beside={figures.beside} />}
    </>
  );
}

const [WIDE, HIGH, LEFT, BELOW] = [520, 150, 34, 22];

function Load({ figures }: { figures: Figures }) {
  const most = Math.max(...figures.load, 1);
  const y = scaleLinear()
    .domain([0, most])
    .nice(3)
    .range([HIGH - BELOW, 8]);
  const width = (WIDE - LEFT) / figures.load.length;
  const time = (share: number) => {
    const at = new Date(new Date(figures.begin).getTime() + share * figures.hours * 3_600_000);
    return figures.hours > 24
      ? at.toLocaleDateString(undefined, { weekday: "short", hour: "2-digit" })
      : at.toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit" });
  };
  const minutes = (figures.hours * 60) / figures.load.length;
  return (
    <svg
      className="load"
      viewBox={`0 0 ${WIDE} ${HIGH}`}
      role="img"
      aria-label={`${figures.asked} questions; at most ${most} in ${minutes < 60 ? `${minutes} minutes` : `${minutes / 60} hours`}`}
    >
      {y
        .ticks(3)
        .filter(Number.isInteger)
        .map((tick) => (
          <g key={tick}>
            <line className="grid" x1={LEFT} x2={WIDE} y1={y(tick)} y2={y(tick)} />
            <text x={LEFT - 5} y={y(tick) + 4} textAnchor="end">
              {tick}
            </text>
          </g>
        ))}
      {figures.load.map((count, place) => (
        <rect
          key={place}
          x={LEFT + place * width + 0.75}
          width={width - 1.5}
          y={y(count)}
          height={y(0) - y(count)}
        />
      ))}
      {[0, 0.5, 1].map((share) => (
        <text
          key={share}
          x={LEFT + share * (WIDE - LEFT)}
          y={HIGH - 6}
          textAnchor={share === 0 ? "start" : share === 1 ? "end" : "middle"}
        >
          {time(share)}
        </text>
      ))}
    </svg>
  );
}

const TONES: Record<string, string> = {
  "encode question": "var(--soft)",
  fused: "var(--fused)",
  reranked: "var(--reranked)",
  context: "var(--context)",
  answer: "var(--answer)",
  all: "var(--ink)",
};
const ROW = 21;

/** A bar to the median, a paler one to what 95 of 100 stay under, and a mark at 99. */
function Times({ figures }: { figures: Figures }) {
  const rows = figures.stages;
  const most = Math.max(...rows.map(({ p99 }) => p99), 1e-3);
  const x = scaleLinear().domain([0, most]).range([0, 270]);
  const high = rows.length * ROW + 4;
  return (
    <svg className="times" viewBox={`0 0 520 ${high}`} role="img" aria-label="Times by stage">
      {rows.map(({ stage, median, p95, p99 }, place) => {
        const tone = TONES[stage] ?? (stage.includes("dense") ? "var(--dense)" : "var(--sparse)");
        const top = place * ROW + 4;
        return (
          <g key={stage} fill={tone}>
            <text x={96} y={top + 12} textAnchor="end">
              {stage === "all" ? "all of it" : stage}
            </text>
            <rect x={104} y={top} width={x(p95)} height={14} opacity={0.3} />
            <rect x={104} y={top} width={x(median)} height={14} />
            <rect x={104 + x(p99) - 1} y={top - 1} width={2} height={16} />
            <text className="num" x={104 + x(p99) + 7} y={top + 12}>
              {milliseconds(median)} · {milliseconds(p95)} · {milliseconds(p99)}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

/** What people thought of each version, where its share lies, 95 % sure. */
function Liked({ figures }: { figures: Figures }) {
  const wide = 220;
  return (
    <section aria-label="Versions" className="liked">
      <h3>What people thought, by version</h3>
      <table className="table table-sm small-text num">
        <thead>
          <tr>
            <th>version</th>
            <th className="text-end">asked</th>
            <th className="text-end">median</th>
            <th className="text-end">liked</th>
            <th className="text-end">not</th>
            <th>share that liked it, 95 % sure; larger is better</th>
          </tr>
        </thead>
        <tbody>
          {figures.versions.map(({ id, recipe, asked, median, up, down, liked }) => (
            <tr key={id}>
              <td>{recipe}</td>
              <td className="text-end">{asked.toLocaleString()}</td>
              <td className="text-end">{median === null ? "" : milliseconds(median)}</td>
              <td className="text-end">{up}</td>
              <td className="text-end">{down}</td>
              <td>
                {liked.length === 3 ? (
                  <svg width={wide + 60} height={16} role="img" aria-label={`${percent(liked[0]!)} liked it`}>
                    <line x1={0} x2={wide} y1={8} y2={8} className="grid" />
                    <line x1={wide * liked[1]!} x2={wide * liked[2]!} y1={8} y2={8} className="reach" />
                    <circle cx={wide * liked[0]!} cy={8} r={4.5} className="mean" />
                    <text x={wide + 8} y={12}>
                      {percent(liked[0]!)}
                    </text>
                  </svg>
                ) : (
                  <span className="soft">nobody said anything</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Beside({ beside }: { beside: NonNullable<Figures["beside"]> }) {
  return (
    <p className="small-text num mb-0">
      <b>{beside.recipe}</b> was asked the same {counted(beside.asked, "question")} beside it: of the first
      passages both have <b>{percent(beside.overlap)}</b>, rank-biased overlap <b>{score(beside.rbo)}</b> (1
      is the same order), {beside.same.toLocaleString()} the very same; {milliseconds(beside.seconds)} in the
      median against {milliseconds(beside.first_seconds)}
      {beside.emptier > 0 && `; ${counted(beside.emptier, "question")} only the first has passages for`}.
    </p>
  );
}
