// Trials: recipes against metrics, and where each loses its questions.
import { useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { useSearchParams } from "react-router";
import { useFamily } from "../api/catalogue";
import type { Job, Trial } from "../api/client";
import { usePutInForce } from "../recipe/api";
import { useStartTrial, useTrials, useTrialsToCome } from "../api/queries";
import { JobBar } from "../shell/JobBar";
import { toneOfCause } from "../shell/pin";
import { Empty, Shown } from "../shell/states";
import { useWorkspace } from "../shell/workspace";
import { duration, percent, score } from "../text/numbers";
import type { Measure } from "./api";
import { Compared } from "./Compared";
import { Questions } from "./Questions";

/** A column or a choice of the page: a stage by what it is, and by its number among those of its kind. */
interface Place {
  key: string;
  kind: string;
  nth: number;
  title: string;
}

const AFTER = ["context", "reranked", "fused"];
/** Whether the answer was delivered, as a metric: 1 or 0. */
const REACHED = "delivered";

/** The stages that any of the trials has: what is measured last comes first, then the branches. */
function placesOf(rows: Trial[]): Place[] {
  const branches = (["sparse", "dense"] as const).flatMap((kind) => {
    const most = Math.max(0, ...rows.map((row) => named(row, kind).length));
    return Array.from({ length: most }, (_, nth) => {
      const ids = [...new Set(rows.map((row) => named(row, kind)[nth]).filter(Boolean))];
      const own =
        most > 1 && ids.length === 1 ? `${kind}: ${ids[0]}` : most > 1 ? `${kind} ${nth + 1}` : kind;
      return { key: nth ? `${kind} ${nth + 1}` : kind, kind, nth, title: own };
    });
  });
  const later = AFTER.filter((kind) => rows.some((row) => named(row, kind).length));
  return [...later.map((kind) => ({ key: kind, kind, nth: 0, title: kind })), ...branches];
}

/** How a trial calls its stages of a kind; a branch may be called anything. */
const named = (row: Trial, kind: string): string[] =>
  Object.keys(row.kinds).filter((stage) => row.kinds[stage] === kind);

const placeOf = (rows: Trial[], stage: string) => placesOf(rows).find(({ key }) => key === stage);

const at = (row: Trial, { kind, nth }: Place): string => named(row, kind)[nth] ?? "";

/** Cut-offs that trials were measured at. */
const cutoffs = (rows: Trial[]): number[] =>
  [
    ...new Set(
      rows.flatMap((row) => Object.values(row.stages).flatMap((found) => Object.keys(found).map(cutoff))),
    ),
  ]
    .filter((k): k is number => k !== null)
    .sort((a, b) => a - b);
const cutoff = (metric: string): number | null => Number(metric.split("@")[1]) || null;

export function Trials() {
  const trials = useTrials();
  const toCome = useTrialsToCome().data ?? [];
  const [stage, setStage] = useState("context");
  const [k, setK] = useState(5);
  const [metric, setMetric] = useState(REACHED);
  const [baseline, setBaseline] = useState<number | null>(null);
  const [all, setAll] = useState(false);
  const [given, setGiven] = useSearchParams();
  const metrics = useFamily("metrics").kinds;
  const kind = metrics.find(({ name }) => name === metric);
  const title = !kind ? "Delivered" : kind.facts.cut ? `${kind.title}@${k}` : kind.title;
  const [first, second] = ["first", "second"].map((name) => Number(given.get(name)));
  const compared = (rows: Trial[]): Measure => {
    const place = placeOf(rows, stage);
    return {
      metric: kind?.facts.cut ? `${metric}@${k}` : metric,
      stage: metric === REACHED ? "context" : (place?.kind ?? "context"),
      nth: metric === REACHED ? 0 : (place?.nth ?? 0),
    };
  };
  if (first && second && trials.data)
    return (
      <Questions {...{ first, second, title }} measure={compared(trials.data)} close={() => setGiven({})} />
    );
  return (
    <>
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
              <div className="d-flex flex-wrap align-items-center gap-3 mb-2">
                <h2>Trials</h2>
                <span className="soft small-text">
                  newest of each recipe: {rows[0]!.questions} questions, {rows[0]!.answerable} answerable
                </span>
                <label className="ms-auto small-text text-nowrap">
                  compare by{" "}
                  <select
                    className="form-select form-select-sm d-inline-block w-auto"
                    aria-label="Compared by"
                    value={metric}
                    onChange={(event) => setMetric(event.target.value)}
                  >
                    <option value={REACHED}>Delivered</option>
                    {metrics.map((one) => (
                      <option key={one.name} value={one.name}>
                        {one.title}
                      </option>
                    ))}
                  </select>
                </label>
                <label className="small-text text-nowrap">
                  measured after{" "}
                  <select
                    className="form-select form-select-sm d-inline-block w-auto"
                    aria-label="Measured after"
                    value={stage}
                    onChange={(event) => setStage(event.target.value)}
                  >
                    {placesOf(rows).map(({ key, title }) => (
                      <option key={key} value={key}>
                        {title === "context" ? "context (what is delivered)" : title}
                      </option>
                    ))}
                  </select>
                </label>
                <label className="small-text text-nowrap">
                  first{" "}
                  <select
                    className="form-select form-select-sm d-inline-block w-auto"
                    aria-label="Cut-off, in chunks"
                    value={k}
                    onChange={(event) => setK(Number(event.target.value))}
                  >
                    {cutoffs(rows).map((value) => (
                      <option key={value} value={value}>
                        {value}
                      </option>
                    ))}
                  </select>
                </label>
              </div>
              <Compared
                {...{ title, baseline, setBaseline }}
                measure={compared(rows)}
                open={(before, after) => setGiven({ first: String(before), second: String(after) })}
              />
              <div className="d-flex align-items-baseline gap-3">
                <h3>
                  Measures <span className="soft fw-normal">larger is better; the best is green</span>
                </h3>
                <Form.Check
                  type="checkbox"
                  id="all-measures"
                  className="small-text text-nowrap mb-0"
                  label="all measures"
                  checked={all}
                  onChange={() => setAll(!all)}
                />
              </div>
              <MetricTable
                rows={rows}
                place={placeOf(rows, stage)}
                k={k}
                all={all}
                against={baseTrial(rows, baseline)}
              />
              <Holes rows={rows} place={placeOf(rows, stage)} k={k} />
              <LedgerPicture rows={rows} />
              <Levels rows={rows} />
            </>
          )
        }
      </Shown>
    </>
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

/** The trial of the baseline, or of the recipe in force. */
const baseTrial = (rows: Trial[], baseline: number | null): number | null =>
  rows.find(({ recipe }) => (baseline === null ? recipe.in_force : recipe.id === baseline))?.id ?? null;

interface MetricTableProps {
  rows: Trial[];
  place: Place | undefined;
  k: number;
  all: boolean;
  /** The trial that reports compare with; null where there is none. */
  against: number | null;
}

function MetricTable({ rows, place, k, all, against }: MetricTableProps) {
  const kinds = useFamily("metrics").kinds;
  const metrics = kinds
    .filter(({ facts }) => all || facts.everyday !== false)
    .map(({ name, title, facts, origin }) => ({
      key: facts.cut ? `${name}@${k}` : name,
      title: facts.cut ? `${title}@${k}` : title,
      help: `${String(facts.help)}${origin ? ` (${origin})` : ""}`,
    }));
  const value = (row: Trial, metric: string) => (place ? row.stages[at(row, place)]?.[metric] : undefined);
  const put = usePutInForce();
  const again = useStartTrial();
  const best = Object.fromEntries(
    metrics.map(({ key }) => [key, Math.max(...rows.map((row) => value(row, key) ?? -1))]),
  );
  const mostDelivered = Math.max(...rows.map((row) => row.ledger.delivered ?? 0));
  return (
    <Table size="sm" hover responsive className="num align-middle">
      <thead>
        <tr>
          <th>Recipe</th>
          <th className="text-end">Delivered</th>
          {metrics.map(({ key, title, help }) => (
            <th key={key} className="text-end" title={help}>
              {title}
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
              {!row.current && (
                <span className="lost small-text"> documents, labels or measures have changed since</span>
              )}
            </td>
            <td className={`text-end ${row.ledger.delivered === mostDelivered ? "best" : ""}`}>
              {percent((row.ledger.delivered ?? 0) / Math.max(row.answerable, 1))}{" "}
              <span className="soft small-text">
                {(100 * row.low).toFixed(0)}–{(100 * row.high).toFixed(0)}
              </span>
            </td>
            {metrics.map(({ key }) => {
              const own = value(row, key);
              return (
                <td key={key} className={`text-end ${own === best[key] ? "best" : ""}`}>
                  {own === undefined ? <span className="soft">–</span> : score(own)}
                </td>
              );
            })}
            <td className="text-end">{row.chunks}</td>
            <td className="text-end">{duration(Object.values(row.seconds).reduce((a, b) => a + b, 0))}</td>
            <td className="text-end">
              <Report trial={row.id} against={against} name={`${row.recipe.name} v${row.recipe.version}`} />{" "}
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

/** A report to be handed to somebody without an account. */
function Report({ trial, against, name }: { trial: number; against: number | null; name: string }) {
  const workspace = useWorkspace();
  const asked = against !== null && against !== trial ? `&against=${against}` : "";
  return (
    <span className="small-text">
      report{" "}
      {(["html", "pdf"] as const).map((form) => (
        <a
          key={form}
          className="me-2"
          href={`/api/workspaces/${workspace}/trials/${trial}/report?form=${form}${asked}`}
          aria-label={`Report of ${name} as ${form.toUpperCase()}`}
          download
        >
          {form.toUpperCase()}
        </a>
      ))}
    </span>
  );
}

/** Says where the order of recipes may come from what was judged rather than from what they found. */
function Holes({ rows, place, k }: { rows: Trial[]; place: Place | undefined; k: number }) {
  if (!place) return null;
  const seen = rows.flatMap((row) => {
    const found = row.stages[at(row, place)];
    const judged = found?.[`judged@${k}`];
    const hit = found?.[`hit@${k}`];
    return judged === undefined || hit === undefined ? [] : [{ row, open: 1 - judged, hit }];
  });
  const most = seen.reduce((a, b) => (b.open > a.open ? b : a), seen[0]!);
  const close = seen.some(({ hit }) => most && Math.abs(hit - most.hit) < most.open);
  if (seen.length < 2 || most.open < 0.05 || !close) return null;
  return (
    <p className="notice small-text" role="note">
      Nobody has judged {percent(most.open)} of the first {k} of {most.row.recipe.name} v
      {most.row.recipe.version}, and other recipes are closer to it than that: which of them is better may
      hang on hits that nobody looked at.
    </p>
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
    "held to have no answer",
    "passed over for what is new",
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
                    color: "var(--card)",
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
  const places = placesOf(rows);
  const branches = places.filter(({ kind }) => !AFTER.includes(kind));
  const later = places.filter(({ kind }) => AFTER.includes(kind)).reverse();
  const stages: Place[] = [{ key: "chunks", kind: "chunks", nth: 0, title: "chunks" }, ...branches, ...later];
  return (
    <>
      <h3 className="mt-3">Answers in play after each stage, larger is better</h3>
      <Table size="sm" className="num mb-0" style={{ maxWidth: 900 }}>
        <thead>
          <tr>
            <th>Recipe</th>
            {stages.map(({ key, kind, title }) => (
              <th key={key} className="text-end" style={{ color: `var(--${kind})` }}>
                {title}
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
                <td key={stage.key} className="text-end">
                  {row.levels[at(row, stage)] ?? <span className="soft">–</span>}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

const HATCH = "repeating-linear-gradient(135deg, var(--lost) 0 5px, var(--wrong-filled) 5px 8px)";
const PALE = "repeating-linear-gradient(135deg, var(--rightly-empty) 0 5px, var(--answer) 5px 8px)";
const PASSED = "repeating-linear-gradient(90deg, var(--soft) 0 3px, var(--pale) 3px 6px)";
const HELD = "repeating-linear-gradient(45deg, var(--soft) 0 2px, var(--paper) 2px 5px)";
const fill = (cause: string): string =>
  cause === "rightly empty"
    ? PALE
    : cause === "wrongly filled"
      ? HATCH
      : cause === "missed by every branch"
        ? "var(--lost)"
        : cause === "over the context budget"
          ? "var(--soft)"
          : cause === "held to have no answer"
            ? HELD
            : cause === "passed over for what is new"
              ? PASSED
              : cause === "under the floor"
                ? "var(--under-floor)"
                : toneOfCause(cause);
