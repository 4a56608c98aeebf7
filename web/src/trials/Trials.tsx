// Trials: recipes against metrics, and where each loses its questions.
import { useState } from "react";
import { Button, Table } from "react-bootstrap";
import type { Job, Trial } from "../api/client";
import { usePutInForce, useStartTrial, useTrials, useTrialsToCome } from "../api/queries";
import { JobBar } from "../shell/JobBar";
import { toneOfCause } from "../shell/pin";
import { Empty, Shown } from "../shell/states";
import { duration, percent, score } from "../text/numbers";

const STAGES: Record<string, string> = {
  context: "context (what is delivered)",
  reranked: "reranked",
  fused: "fused",
  sparse: "sparse",
  dense: "dense",
};
const METRICS: [string, string][] = [
  ["recall@1", "share of answer spans met by the first chunk"],
  ["recall@5", "share of answer spans met by the first 5 chunks"],
  ["hit@5", "share of questions with any answer among the first 5"],
  ["precision@5", "relevant chunks among the first 5, over 5"],
  ["mrr", "mean of 1 over the rank of the first relevant chunk"],
  ["ndcg@10", "graded gain of the first 10, against the ideal order"],
  ["coverage@5", "share of the answers’ characters in the first 5 chunks"],
  ["density@5", "share of the first 5 chunks’ characters that is answer"],
];

/** How a trial calls a stage of that kind; a branch may be called anything. */
const named = (row: Trial, kind: string): string =>
  Object.keys(row.kinds).find((stage) => row.kinds[stage] === kind) ?? "";

export function Trials() {
  const trials = useTrials();
  const toCome = useTrialsToCome().data ?? [];
  const [stage, setStage] = useState("context");
  return (
    <main className="panel trials" aria-label="Trials">
      {toCome.length > 0 && <ToCome jobs={toCome} />}
      <Shown query={trials} what="Reading the trials">
        {(rows) =>
          rows.length === 0 ? (
            toCome.length === 0 && (
              <Empty title="No trial yet">
                Save a recipe: it is built and measured, and its figures stand here.
              </Empty>
            )
          ) : (
            <>
              <div className="d-flex align-items-baseline gap-3 mb-2">
                <h2>Trials</h2>
                <span className="soft small-text">
                  Newest trial of each recipe over {rows[0]!.questions} questions, {rows[0]!.answerable} of
                  them answerable. Larger is better in every column; the best is green.
                </span>
                <label className="ms-auto small-text">
                  measured after{" "}
                  <select
                    className="form-select form-select-sm d-inline-block w-auto"
                    value={stage}
                    onChange={(event) => setStage(event.target.value)}
                  >
                    {Object.entries(STAGES).map(([value, text]) => (
                      <option key={value} value={value}>
                        {text}
                      </option>
                    ))}
                  </select>
                </label>
              </div>
              <MetricTable rows={rows} stage={stage} />
              <LedgerPicture rows={rows} />
              <Levels rows={rows} />
            </>
          )
        }
      </Shown>
    </main>
  );
}

/** What the worker measures now, and what it will take up after that. */
function ToCome({ jobs }: { jobs: Job[] }) {
  const [now, ...later] = jobs;
  return (
    <section className="to-come" aria-label="Trials to come">
      <JobBar job={now!} />
      {later.length > 0 && (
        <p className="soft small-text mb-0">
          Then {later.map((job) => job.title.replace("Build and measure ", "")).join(", ")}: {later.length}{" "}
          more, one after another.
        </p>
      )}
    </section>
  );
}

function MetricTable({ rows, stage }: { rows: Trial[]; stage: string }) {
  const put = usePutInForce();
  const again = useStartTrial();
  const best = Object.fromEntries(
    METRICS.map(([metric]) => [
      metric,
      Math.max(...rows.map((row) => row.stages[named(row, stage)]?.[metric] ?? -1)),
    ]),
  );
  const mostDelivered = Math.max(...rows.map((row) => row.ledger.delivered ?? 0));
  return (
    <Table size="sm" hover className="num align-middle">
      <thead>
        <tr>
          <th>Recipe</th>
          <th className="text-end">Delivered</th>
          {METRICS.map(([metric, meaning]) => (
            <th key={metric} className="text-end" title={meaning}>
              {metric}
            </th>
          ))}
          <th className="text-end">Chunks</th>
          <th className="text-end" title="asking all questions, on this machine">
            Time
          </th>
          <th>
            <span className="visually-hidden">actions</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.id} data-trial={row.recipe.name}>
            <td>
              <strong>{row.recipe.name}</strong> v{row.recipe.version}
              {row.recipe.in_force && <span className="soft small-text"> in force</span>}
              {!row.current && <span className="lost small-text"> documents have changed since</span>}
            </td>
            <td className={`text-end ${row.ledger.delivered === mostDelivered ? "best" : ""}`}>
              {percent((row.ledger.delivered ?? 0) / Math.max(row.answerable, 1))}{" "}
              <span className="soft small-text">
                {(100 * row.low).toFixed(0)}–{(100 * row.high).toFixed(0)}
              </span>
            </td>
            {METRICS.map(([metric]) => {
              const value = row.stages[named(row, stage)]?.[metric];
              return (
                <td key={metric} className={`text-end ${value === best[metric] ? "best" : ""}`}>
                  {value === undefined ? <span className="soft">–</span> : score(value)}
                </td>
              );
            })}
            <td className="text-end">{row.chunks}</td>
            <td className="text-end">{duration(Object.values(row.seconds).reduce((a, b) => a + b, 0))}</td>
            <td className="text-end">
              {row.recipe.in_force ? (
                <Button size="sm" variant="link" className="p-0" onClick={() => again.mutate(row.recipe.id)}>
                  measure again
                </Button>
              ) : (
                <Button size="sm" variant="link" className="p-0" onClick={() => put.mutate(row.recipe.id)}>
                  put in force
                </Button>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

function LedgerPicture({ rows }: { rows: Trial[] }) {
  const causes = [...new Set(rows.flatMap((row) => Object.keys(row.ledger)))];
  const order = [
    "delivered",
    "cut by chunking",
    "missed by every branch",
    "lost in fusion",
    "dropped by the reranker",
    "under the floor",
    "over the context budget",
    "rightly empty",
    "wrongly filled",
  ].filter((cause) => causes.includes(cause));
  const used = order.filter((cause) => rows.some((row) => row.ledger[cause]));
  return (
    <>
      <h3 className="mt-3">Where questions end</h3>
      {rows.map((row) => (
        <div
          key={row.id}
          className="d-grid mb-1 align-items-center"
          style={{ gridTemplateColumns: "12rem 1fr", gap: 10 }}
        >
          <span className="small-text text-truncate">
            {row.recipe.name} v{row.recipe.version}
          </span>
          <div className="ledger-strip">
            {used.map((cause) => {
              const count = row.ledger[cause] ?? 0;
              return count ? (
                <span
                  key={cause}
                  title={`${cause}: ${count} of ${row.questions}`}
                  style={{
                    width: `${(100 * count) / row.questions}%`,
                    background: fill(cause),
                    color: "#fff",
                    fontSize: 12,
                    textAlign: "center",
                  }}
                >
                  {count}
                </span>
              ) : null;
            })}
          </div>
        </div>
      ))}
      <div className="d-flex flex-wrap gap-3 small-text mt-2">
        {used.map((cause) => (
          <span key={cause} className="d-inline-flex align-items-center gap-1">
            <span style={{ width: 14, height: 12, borderRadius: 2, background: fill(cause) }} />
            {cause}
          </span>
        ))}
        <span className="soft">the strip is all questions of the set</span>
      </div>
    </>
  );
}

/** Answers still in play after each stage, recipe by recipe. */
function Levels({ rows }: { rows: Trial[] }) {
  const stages = ["chunks", "sparse", "dense", "fused", "reranked", "context"];
  return (
    <>
      <h3 className="mt-3">Answers in play after each stage, larger is better</h3>
      <Table size="sm" className="num mb-0" style={{ maxWidth: 900 }}>
        <thead>
          <tr>
            <th>Recipe</th>
            {stages.map((stage) => (
              <th key={stage} className="text-end" style={{ color: `var(--${stage})` }}>
                {stage}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.id}>
              <td>
                {row.recipe.name} v{row.recipe.version}
              </td>
              {stages.map((stage) => (
                <td key={stage} className="text-end">
                  {row.levels[named(row, stage)] ?? <span className="soft">–</span>}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

const HATCH = "repeating-linear-gradient(135deg, var(--lost) 0 5px, #c2604d 5px 8px)";
const PALE = "repeating-linear-gradient(135deg, #4d9467 0 5px, #22703f 5px 8px)";
const fill = (cause: string): string =>
  cause === "rightly empty"
    ? PALE
    : cause === "wrongly filled"
      ? HATCH
      : cause === "missed by every branch"
        ? "var(--lost)"
        : cause === "over the context budget"
          ? "#6d5746"
          : cause === "under the floor"
            ? "#a8659d"
            : toneOfCause(cause);
