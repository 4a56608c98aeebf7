// Two recipes question by question: what changed, where their answers part, both traces side by side.
import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { Asked, StageTrace } from "../api/client";
import { chunksByNumber, kindOf } from "../stages/shared/trace";
import { RankFlow, type Lane } from "../stages/shared/RankFlow";
import { Segments } from "../shell/Segments";
import { Shown } from "../shell/states";
import { counted, score } from "../text/numbers";
import { chance, signed, useAskedUnder, useComparedQuestions } from "./api";
import { Shares, Wordings } from "./Shares";
import type { ComparedQuestion, ComparedQuestions, Measure } from "./api";

const AT_ONCE = 200;
const ALL = "";
type Side = "questions" | "shares" | "wordings";
const SIDES: [Side, string][] = [
  ["questions", "One by one"],
  ["shares", "What they share"],
  ["wordings", "Wordings"],
];

interface Props {
  first: number;
  second: number;
  measure: Measure;
  title: string;
  close: () => void;
}

export function Questions({ first, second, measure, title, close }: Props) {
  const found = useComparedQuestions(first, second, measure);
  return (
    <Shown query={found} what="Reading both trials">
      {(data) => (
        <section className="pairs" aria-label="Question by question">
          <div className="d-flex align-items-baseline gap-3 mb-2">
            <button type="button" className="btn btn-link btn-sm p-0" onClick={close}>
              All recipes
            </button>
            <h2>
              {data.first.name} v{data.first.version} <span className="soft">to</span> {data.second.name} v
              {data.second.version}
            </h2>
            <span className="small-text num">
              {title} {signed(data.whole.mean)} ({signed(data.whole.low)} to {signed(data.whole.high)},{" "}
              {chance(data.whole.p)}): {data.said}
            </span>
          </div>
          <Chosen data={data} />
        </section>
      )}
    </Shown>
  );
}

function Chosen({ data }: { data: ComparedQuestions }) {
  const [only, setOnly] = useState({ way: "changed", parts: ALL, tag: ALL });
  const [side, setSide] = useState<Side>("questions");
  const [question, setQuestion] = useState<number | null>(data.questions[0]?.question ?? null);
  const rows = data.questions.filter((row) => keeps(row, only));
  const tags = useMemo(() => [...new Set(data.questions.flatMap((row) => row.tags))].sort(), [data]);
  const parts = [...new Set(data.questions.map((row) => row.parts).filter(Boolean))];
  const most = Math.max(1e-9, ...data.questions.map((row) => Math.abs(row.after - row.before)));
  const ways = [
    ["changed", "changed", data.whole.wins + data.whole.losses],
    ["better", "better", data.whole.wins],
    ["worse", "worse", data.whole.losses],
    ["all", "all", data.questions.length],
  ] as const;
  return (
    <div className="pairs-split">
      <div className="pairs-list">
        <div className="mb-2">
          <Segments options={SIDES} value={side} choose={setSide} />
        </div>
        {side === "shares" ? (
          <Shares data={data} />
        ) : side === "wordings" ? (
          <Wordings data={data} />
        ) : (
          <>
            <div className="d-flex flex-wrap gap-2 mb-2 align-items-center small-text">
              {ways.map(([way, name, count]) => (
                <button
                  key={way}
                  type="button"
                  className={`btn btn-sm ${only.way === way ? "btn-primary" : "btn-outline-primary"}`}
                  aria-pressed={only.way === way}
                  onClick={() => setOnly({ ...only, way })}
                >
                  {name} {count}
                </button>
              ))}
              <Choice
                label="parts at"
                value={only.parts}
                among={parts}
                choose={(value) => setOnly({ ...only, parts: value })}
              />
              <Choice label="tag" value={only.tag} among={tags} choose={(tag) => setOnly({ ...only, tag })} />
            </div>
            {rows.length === 0 && <p className="soft">No question here.</p>}
            <ul className="list-unstyled mb-0">
              {rows.slice(0, AT_ONCE).map((row) => (
                <li key={row.question}>
                  <button
                    type="button"
                    className={`versus ${row.question === question ? "chosen" : ""}`}
                    aria-pressed={row.question === question}
                    data-pair={row.identity}
                    onClick={() => setQuestion(row.question)}
                  >
                    <span className="versus-text">{row.text}</span>
                    <Change row={row} most={most} />
                    <span className="versus-ends soft">{ends(row)}</span>
                  </button>
                </li>
              ))}
            </ul>
            {rows.length > AT_ONCE && (
              <p className="soft small-text">
                The {AT_ONCE} largest changes of {counted(rows.length, "question")}; tags and stages narrow
                them.
              </p>
            )}
          </>
        )}
      </div>
      {question !== null && <Both data={data} question={question} />}
    </div>
  );
}

const keeps = (row: ComparedQuestion, only: { way: string; parts: string; tag: string }): boolean => {
  const change = row.after - row.before;
  const way =
    only.way === "all" ||
    (only.way === "changed" ? change !== 0 : only.way === "better" ? change > 0 : change < 0);
  return way && (!only.parts || row.parts === only.parts) && (!only.tag || row.tags.includes(only.tag));
};

/** Where a question ended under both, and where they part. */
function ends(row: ComparedQuestion): string {
  const [before, after] = row.causes;
  const told = before === after ? `${before} under both` : `${before} before, ${after} after`;
  return row.parts ? `${told}; parts at ${row.parts}` : told;
}

function Change({ row, most }: { row: ComparedQuestion; most: number }) {
  const change = row.after - row.before;
  const share = (50 * Math.abs(change)) / most;
  return (
    <span className="versus-change num" title={`${score(row.before)} before, ${score(row.after)} after`}>
      <svg width="100" height="14" aria-hidden="true" viewBox="0 0 100 14" preserveAspectRatio="none">
        <line className="zero" x1="50" x2="50" y1="0" y2="14" />
        <rect
          className={change < 0 ? "worse" : "better"}
          x={change < 0 ? 50 - share : 50}
          width={share}
          y="2"
          height="10"
        />
      </svg>
      <span className={change > 0 ? "gain" : change < 0 ? "lost" : "soft"}>
        {change === 0 ? "=" : signed(change)}
      </span>
    </span>
  );
}

function Choice({
  label,
  value,
  among,
  choose,
}: {
  label: string;
  value: string;
  among: string[];
  choose: (value: string) => void;
}) {
  if (among.length === 0) return null;
  return (
    <label className="text-nowrap">
      {label}{" "}
      <select
        className="form-select form-select-sm d-inline-block w-auto"
        value={value}
        onChange={(event) => choose(event.target.value)}
      >
        <option value={ALL}>any</option>
        {among.map((one) => (
          <option key={one} value={one}>
            {one}
          </option>
        ))}
      </select>
    </label>
  );
}

/** One question under both recipes. */
function Both({ data, question }: { data: ComparedQuestions; question: number }) {
  const row = data.questions.find((one) => one.question === question)!;
  return (
    <div className="pairs-both">
      <div className="d-flex align-items-baseline gap-3">
        <h3 className="serif flex-grow-1">{row.text}</h3>
        <Link className="small-text text-nowrap" to={`/line/context?q=${question}`}>
          Pin it
        </Link>
      </div>
      <p className="small-text soft mb-2">{ends(row)}</p>
      <div className="pairs-flows">
        {[data.first, data.second].map((recipe, side) => (
          <div key={recipe.id} data-side={side}>
            <h4 className="small-text mb-0">
              {recipe.name} v{recipe.version}{" "}
              <span className="soft fw-normal num">{score(side ? row.after : row.before)}</span>
            </h4>
            <Side recipe={recipe.id} question={question} parts={row.parts} />
          </div>
        ))}
      </div>
    </div>
  );
}

function Side({ recipe, question, parts }: { recipe: number; question: number; parts: string }) {
  const asked = useAskedUnder(recipe, question);
  return (
    <Shown query={asked} what="Asking it under this recipe">
      {(data) => <Flow asked={data} parts={parts} />}
    </Shown>
  );
}

function Flow({ asked, parts }: { asked: Asked; parts: string }) {
  const [chosen, setChosen] = useState<number | null>(null);
  const chunks = chunksByNumber(asked);
  const stages = asked.trace?.stages ?? [];
  if (stages.length === 0) return <p className="soft small-text">Its indexes are not built now.</p>;
  const lanes = stages.map((stage) => laneOf(asked, stage));
  const fused = lanes.findIndex((lane) => lane.kind === "fused");
  const links = lanes.flatMap((_, at): [number, number][] => {
    if (at < fused) return [[at, fused]];
    return at > fused ? [[at - 1, at]] : [];
  });
  const text = chosen === null ? undefined : chunks.get(chosen);
  return (
    <>
      <RankFlow
        lanes={lanes}
        links={links}
        chunks={chunks}
        chosen={chosen}
        choose={setChosen}
        width={Math.max(380, 82 * lanes.length)}
      />
      {parts && lanes.some((lane) => lane.kind === parts) && (
        <p className="small-text mb-0">They part after {parts}.</p>
      )}
      {text && <p className="passage small-text">{text.text}</p>}
    </>
  );
}

const laneOf = (asked: Asked, stage: StageTrace): Lane => {
  const passes = stage.kept.filter(Boolean).length;
  return {
    id: stage.stage,
    title: stage.stage[0]!.toUpperCase() + stage.stage.slice(1),
    kind: kindOf(asked, stage),
    chunks: stage.chunks,
    passes: stage.kind === "branch" ? undefined : passes,
  };
};
