// Recipes against a baseline: how much each gains, how sure that is, and what is within noise.
import { useState } from "react";
import { scaleLinear } from "d3-scale";
import { useWorkspaces } from "../api/queries";
import { Shown } from "../shell/states";
import { useWorkspace } from "../shell/workspace";
import { counted, score } from "../text/numbers";
import { Frontier } from "./Frontier";
import { AddRun, RunName } from "./Runs";
import {
  sight,
  signed,
  useComparison,
  verdict,
  type Cell,
  type Column,
  type ComparedRow,
  type Comparison,
  type Measure,
} from "./api";

const WIDE = 300;
const ROW = 24;
const MANY_ROWS = 8;

interface Props {
  measure: Measure;
  title: string;
  baseline: number | null;
  setBaseline: (recipe: number) => void;
  /** Opens two trials question by question. */
  open: (first: number, second: number) => void;
}

export function Compared({ measure, title, baseline, setBaseline, open }: Props) {
  const [beside, setBeside] = useState<number[]>([]);
  const found = useComparison(measure, baseline, beside);
  return (
    <Shown query={found} what="Comparing the recipes">
      {(data) => (
        <section className="compared" aria-label="Recipes against a baseline">
          <Picked {...{ data, title, setBaseline, open, beside, setBeside }} />
        </section>
      )}
    </Shown>
  );
}

interface PickedProps {
  data: Comparison;
  title: string;
  setBaseline: (recipe: number) => void;
  open: (first: number, second: number) => void;
  beside: number[];
  setBeside: (workspaces: number[]) => void;
}

function Picked({ data, title, setBaseline, open, beside, setBeside }: PickedProps) {
  const [wanted, setWanted] = useState(0);
  const [filter, setFilter] = useState("");
  const [together, setTogether] = useState(false);
  const place = Math.min(wanted, data.columns.length - 1);
  const column = data.columns[place];
  if (!column || data.rows.length === 0) return <Lacking names={data.lacking} />;
  const mean = (row: ComparedRow) => row.cells[place]!.mean ?? -1;
  // The best of each name, by which versions of one recipe stand together.
  const best = new Map<string, number>();
  for (const row of data.rows) best.set(nameOf(row), Math.max(best.get(nameOf(row)) ?? -1, mean(row)));
  const rows = data.rows
    .filter((row) => row.title.toLowerCase().includes(filter.toLowerCase()))
    .sort(
      (a, b) =>
        (together ? (best.get(nameOf(b)) ?? -1) - (best.get(nameOf(a)) ?? -1) : 0) || mean(b) - mean(a),
    );
  const against = data.rows.find((row) => row.recipe && row.recipe.id === data.baseline);
  const reach = Math.max(
    0.01,
    ...rows.flatMap(({ cells }) => {
      const apart = cells[place]!.difference;
      return apart ? [Math.abs(apart.low), Math.abs(apart.high)] : [];
    }),
  );
  const many = new Set(data.columns.map((one) => one.workspace)).size > 1;
  return (
    <>
      <div className="d-flex flex-wrap align-items-center gap-3 mb-1">
        <label className="small-text text-nowrap">
          against{" "}
          <select
            className="form-select form-select-sm d-inline-block w-auto"
            aria-label="Baseline"
            value={data.baseline ?? ""}
            onChange={(event) => setBaseline(Number(event.target.value))}
          >
            {data.baseline === null && <option value="">choose a baseline</option>}
            {data.rows.flatMap(({ recipe, title: name }) =>
              recipe
                ? [
                    <option key={recipe.id} value={recipe.id}>
                      {name}
                      {recipe.in_force ? ", in force" : ""}
                    </option>,
                  ]
                : [],
            )}
          </select>
        </label>
        <Beside chosen={beside} choose={setBeside} />
        {data.rows.length > best.size && (
          <label className="small-text d-inline-flex align-items-center gap-1">
            <input
              type="checkbox"
              className="form-check-input mt-0"
              checked={together}
              onChange={() => setTogether(!together)}
            />
            versions together
          </label>
        )}
        <AddRun />
        {data.rows.length > MANY_ROWS && (
          <input
            className="form-control form-control-sm w-auto"
            aria-label="Recipes whose name holds"
            placeholder="recipes whose name holds"
            value={filter}
            onChange={(event) => setFilter(event.target.value)}
          />
        )}
      </div>
      <table className="table table-sm num align-middle mb-1">
        <thead>
          <tr>
            <th>Recipe</th>
            <th className="text-end">{title}</th>
            <th>
              <Axis reach={reach} name={against?.title ?? ""} />
            </th>
            <th>Gain, larger is better</th>
            <th title="Questions on which it is better, worse, equal">Better : worse : equal</th>
            {data.columns.length > 1 &&
              data.columns.map((one, at) => (
                <th key={`${one.workspace} ${one.set}`} className="text-end">
                  <button
                    type="button"
                    className={`btn btn-sm p-0 ${at === place ? "fw-bold" : "btn-link"}`}
                    aria-pressed={at === place}
                    onClick={() => setWanted(at)}
                  >
                    {many ? `${one.workspace_name}: ` : ""}
                    {one.title} <span className="soft">{one.questions}</span>
                  </button>
                </th>
              ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <Row
              key={row.recipe?.id ?? `run ${row.run}`}
              {...{
                row,
                place,
                reach,
                open,
                columns: data.columns,
                base: against?.cells[place]?.trial ?? null,
              }}
              baseline={row.recipe !== null && row.recipe.id === data.baseline}
            />
          ))}
        </tbody>
      </table>
      <Told rows={rows} place={place} against={against} />
      <Lacking names={data.lacking} />
      <Frontier data={data} title={title} />
    </>
  );
}

/** What versions of one recipe have in common. */
const nameOf = (row: ComparedRow): string => row.recipe?.name ?? row.title;

/** How a gain is coloured. */
const toneOf = ({ said }: Cell): string => (said === "better" ? "gain" : said === "worse" ? "lost" : "soft");

/** What the picture says and what so many questions can see. */
function Told({
  rows,
  place,
  against,
}: {
  rows: ComparedRow[];
  place: number;
  against: ComparedRow | undefined;
}) {
  const cells = rows.map((row) => row.cells[place]!);
  const compared = cells.filter((cell) => cell.difference).length;
  const seen = sight(cells);
  const asked = Math.max(0, ...cells.map((cell) => cell.questions));
  if (!against || compared === 0)
    return (
      <p className="small-text soft">A recipe that was measured on these questions can be the baseline.</p>
    );
  return (
    <p className="small-text soft mb-3">
      Bars are 95 % intervals over {counted(asked, "question")}; p is by paired randomisation, corrected for{" "}
      {counted(compared, "recipe")} (Holm). Green: the best, and with ≈ what is not different from it.{" "}
      {seen && (
        <>
          So many questions find a true difference of <b className="num">{score(seen.sees)}</b> in four trials
          of five; half of that would take {counted(seen.more, "more question")}.
        </>
      )}
    </p>
  );
}

function Row({
  row,
  place,
  reach,
  columns,
  base,
  baseline,
  open,
}: {
  row: ComparedRow;
  place: number;
  reach: number;
  columns: Column[];
  base: number | null;
  baseline: boolean;
  open: (first: number, second: number) => void;
}) {
  const workspace = useWorkspace();
  const cell = row.cells[place]!;
  const apart = cell.difference;
  const here = columns[place]!.workspace === workspace;
  const name = row.title;
  return (
    <tr data-compared={name} className={baseline ? "base" : ""}>
      <td>
        {row.recipe ? (
          <>
            <strong>{row.recipe.name}</strong> v{row.recipe.version}
            {row.recipe.in_force && <span className="soft small-text"> in force</span>}
          </>
        ) : (
          <RunName run={row.run!} name={name} earlier={cell.mean !== null && !cell.current} />
        )}
        {row.recipe && cell.trial !== null && !cell.current && (
          <span className="lost small-text"> documents, labels or measures have changed since</span>
        )}
      </td>
      <td className="text-end">
        <Mean cell={cell} />
        {cell.low !== null && cell.high !== null && (
          <span className="soft small-text" title="95 % interval of the mean">
            {" "}
            {score(cell.low)}–{score(cell.high)}
          </span>
        )}
      </td>
      <td>{apart ? <Interval cell={cell} reach={reach} /> : <Middle reach={reach} />}</td>
      <td>
        {baseline ? (
          <span className="soft">the baseline</span>
        ) : apart ? (
          <>
            {signed(apart.mean)} <span className={toneOf(cell)}>{verdict(cell)}</span>
          </>
        ) : (
          <span className="soft">
            {row.recipe ? "not measured here" : "a ranking alone says nothing of this"}
          </span>
        )}
      </td>
      <td>
        {apart &&
          (here && base !== null && cell.trial !== null ? (
            <button
              type="button"
              className="btn btn-link btn-sm p-0"
              title="Question by question"
              aria-label={`${apart.wins} : ${apart.losses} : ${apart.ties} of ${name}, question by question`}
              onClick={() => open(base, cell.trial!)}
            >
              {apart.wins} : {apart.losses} : {apart.ties}
            </button>
          ) : (
            `${apart.wins} : ${apart.losses} : ${apart.ties}`
          ))}
      </td>
      {columns.length > 1 &&
        row.cells.map((one, at) => (
          <td key={at} className="text-end">
            <Mean cell={one} />{" "}
            {one.difference && (
              <span className={`small-text ${toneOf(one)}`} title={verdict(one)}>
                {signed(one.difference.mean)}
              </span>
            )}
          </td>
        ))}
    </tr>
  );
}

const Mean = ({ cell }: { cell: Cell }) =>
  cell.mean === null ? (
    <span className="soft">–</span>
  ) : (
    <span className={cell.near_best ? "best" : ""} title={`mean over ${counted(cell.questions, "question")}`}>
      {cell.near_best && !cell.best ? "≈ " : ""}
      {score(cell.mean)}
    </span>
  );

const scale = (reach: number) =>
  scaleLinear()
    .domain([-reach * 1.08, reach * 1.08])
    .range([6, WIDE - 6]);

function Axis({ reach, name }: { reach: number; name: string }) {
  const x = scale(reach);
  const step = x.ticks(5).filter((tick) => tick !== 0);
  return (
    <svg width={WIDE} height="32" role="img" aria-label={`Gain over ${name}; right is better`}>
      <text x={x(0)} y="11" textAnchor="middle" className="name">
        {name}
      </text>
      {step.map((tick) => (
        <text key={tick} x={x(tick)} y="27" textAnchor="middle">
          {signed(tick)}
        </text>
      ))}
      <text x={x(0)} y="27" textAnchor="middle">
        0
      </text>
    </svg>
  );
}

function Interval({ cell, reach }: { cell: Cell; reach: number }) {
  const x = scale(reach);
  const apart = cell.difference!;
  const tone = cell.said === "better" ? "better" : cell.said === "worse" ? "worse" : "noise";
  return (
    <svg
      width={WIDE}
      height={ROW}
      role="img"
      aria-label={`gain ${signed(apart.mean)}, from ${signed(apart.low)} to ${signed(apart.high)}`}
    >
      <line className="zero" x1={x(0)} x2={x(0)} y1="0" y2={ROW} />
      <line className={`reach ${tone}`} x1={x(apart.low)} x2={x(apart.high)} y1={ROW / 2} y2={ROW / 2} />
      <path className={`reach ${tone}`} d={`M${x(apart.low)},7v10M${x(apart.high)},7v10`} />
      {tone === "noise" ? (
        <circle className={`mean ${tone}`} cx={x(apart.mean)} cy={ROW / 2} r="5" />
      ) : (
        <path
          className={`mean ${tone}`}
          d={tone === "better" ? "M-6,5L0,-6L6,5Z" : "M-6,-5L0,6L6,-5Z"}
          transform={`translate(${x(apart.mean)},${ROW / 2})`}
        />
      )}
    </svg>
  );
}

function Middle({ reach }: { reach: number }) {
  const x = scale(reach);
  return (
    <svg width={WIDE} height={ROW} aria-hidden="true">
      <line className="zero" x1={x(0)} x2={x(0)} y1="0" y2={ROW} />
    </svg>
  );
}

/** Other workspaces as columns: the same recipe over another corpus. */
function Beside({ chosen, choose }: { chosen: number[]; choose: (workspaces: number[]) => void }) {
  const own = useWorkspace();
  const others = (useWorkspaces().data ?? []).filter((row) => row.id !== own);
  if (others.length === 0) return null;
  return (
    <span className="small-text d-inline-flex align-items-center gap-2">
      beside
      {others.map((row) => (
        <label key={row.id} className="d-inline-flex align-items-center gap-1">
          <input
            type="checkbox"
            className="form-check-input mt-0"
            checked={chosen.includes(row.id)}
            onChange={() =>
              choose(chosen.includes(row.id) ? chosen.filter((one) => one !== row.id) : [...chosen, row.id])
            }
          />
          {row.name}
        </label>
      ))}
    </span>
  );
}

function Lacking({ names }: { names: string[] }) {
  if (names.length === 0) return null;
  return (
    <p className="notice small-text" role="note">
      Measured before figures were kept question by question, so not compared: {names.join(", ")}. Measure
      them again to see them here.
    </p>
  );
}
