// The line: seven stages from left to right, Sparse above Dense, each with its level. It is the navigation.
import type { Line as LineData, StageLevel } from "../api/client";
import { running, useStartTrial } from "../api/queries";
import type { Measured } from "../draft/draft";
import { Marker } from "../shell/Marker";
import { STAGES, TITLES, useGo, useNamedBranch, useStage, type StageName } from "../shell/pin";
import { useMay } from "../shell/workspace";
import { counted, percent } from "../text/numbers";

export function Line({ line, draft }: { line: LineData; draft?: Measured }) {
  const of = (kind: StageName) => line.stages.filter((stage) => stage.kind === kind);
  const block = (kind: StageName) => (
    <Block key={kind} kind={kind} level={of(kind)[0]} total={line.answerable} draft={draft} />
  );
  const families = (["sparse", "dense"] as const).map((kind) => ({ kind, levels: of(kind) }));
  const crowded = families.reduce((sum, { levels }) => sum + Math.max(levels.length, 1), 0) > 2;
  const branches = families.flatMap(({ kind, levels }) =>
    (levels.length ? levels : [undefined]).map((level, place) => (
      <Block
        key={level?.stage ?? kind}
        kind={kind}
        half
        thin={crowded}
        title={levels.length > 1 ? level?.stage : undefined}
        first={place === 0}
        level={level}
        total={line.answerable}
        draft={draft}
      />
    )),
  );
  return (
    <nav className={line.earlier ? "line earlier" : "line"} aria-label="The line">
      {block("documents")}
      {block("chunks")}
      <div className={crowded ? "pair crowded" : "pair"}>{branches}</div>
      {block("fused")}
      {block("reranked")}
      {block("context")}
      <Delivered line={line} />
    </nav>
  );
}

function Block({
  kind,
  level,
  total,
  half = false,
  thin = false,
  title,
  first = true,
  draft,
}: {
  kind: StageName;
  level: StageLevel | undefined;
  total: number;
  /** A branch, one of several in its place. */
  half?: boolean;
  /** One of more than two branches: a line and no more. */
  thin?: boolean;
  /** What it is called where there are several of its kind. */
  title?: string;
  /** Whether the key of the stage leads here. */
  first?: boolean;
  draft?: Measured;
}) {
  const go = useGo();
  const named = useNamedBranch();
  const here = useStage() === kind;
  const current = here && (!title || (named ? named === level?.stage : first));
  const known = level && level.in_play !== null && total > 0;
  const lost = level?.lost ?? 0;
  const lostText =
    lost > 0 ? (half ? `${lost} missed` : `${lost} lost`) : lost < 0 ? `${-lost} more` : "none lost";
  return (
    <button
      type="button"
      className={["stage", half && "half", thin && "thin", kind === "documents" && "first"]
        .filter(Boolean)
        .join(" ")}
      style={{ "--tone": `var(--${kind})` } as React.CSSProperties}
      aria-current={current ? "page" : undefined}
      data-stage={kind}
      title={thin ? `${title ?? TITLES[kind]}: ${level?.facts.join(", ") ?? absent(kind)}` : undefined}
      onClick={() => go({ stage: kind, branch: title && level?.stage })}
    >
      <span className="title">
        <Marker kind={kind} />
        <span className="text-truncate">{title ?? TITLES[kind]}</span>
        {half && known && (
          <span className="small-text num fw-normal text-nowrap" style={{ color: "var(--ink)" }}>
            {level.in_play}
            {!thin && ` of ${total}`}
          </span>
        )}
        {first && <span className="key">{STAGES.indexOf(kind) + 1}</span>}
      </span>
      {!half && (
        <span>
          {(level?.facts ?? [absent(kind)]).map((fact) => (
            <span key={fact} className="facts d-block">
              {fact}
            </span>
          ))}
        </span>
      )}
      <span>
        {known ? (
          <>
            {!half && (
              <span className="level num">
                <span>
                  {level.in_play} of {total}
                </span>
                {kind !== "documents" && <span className={lost > 0 ? "lost" : "soft"}>{lostText}</span>}
              </span>
            )}
            {half && !thin && (
              <span className="level num">
                <span className="facts">{level.facts[0]}</span>
                <span className={lost > 0 ? "lost" : "soft"}>{lostText}</span>
              </span>
            )}
            <span
              className="gauge d-block"
              role="img"
              aria-label={`${level.in_play} of ${total} answers in play`}
            >
              <span style={{ width: `${(100 * level.in_play!) / Math.max(total, 1)}%` }} />
            </span>
            <OfDraft draft={draft} stage={level.stage} />
          </>
        ) : (
          <span className="facts">
            {level
              ? level.in_play === null
                ? "not measured yet"
                : "no question yet"
              : half
                ? absent(kind)
                : ""}
          </span>
        )}
      </span>
    </button>
  );
}

/** The level of a draft at a stage, over the questions that it was asked so far. */
function OfDraft({ draft, stage }: { draft: Measured | undefined; stage: string }) {
  const own = draft?.stages.find((row) => row.stage === stage);
  if (!draft || !own || !draft.answerable) return null;
  const apart = own.before === null ? 0 : own.in_play - own.before;
  const told = `draft: ${own.in_play} of ${draft.answerable}${apart ? `, ${apart > 0 ? "+" : "−"}${Math.abs(apart)}` : ""}`;
  return (
    <span className="gauge of-draft d-block" role="img" aria-label={told} title={told}>
      <span style={{ width: `${(100 * own.in_play) / draft.answerable}%` }} />
    </span>
  );
}

function absent(kind: StageName): string {
  return kind === "reranked" ? "not in this recipe: fused order is kept" : "not in this recipe";
}

/** What greyed levels were measured on. */
function ofEarlier({ documents, measured_at }: NonNullable<LineData["earlier"]>): string {
  const when = new Date(measured_at).toLocaleString("en-GB", {
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
  });
  return documents === null ? when : `${counted(documents, "document")}, ${when}`;
}

/** Documents or labels have changed since: the way to the figures of now. */
function MeasureAgain({ line }: { line: LineData }) {
  const start = useStartTrial();
  const mayEdit = useMay("editor");
  if (!mayEdit || running(line.job)) return null;
  return (
    <button
      type="button"
      className="measure-again"
      disabled={start.isPending}
      onClick={() => start.mutate(line.recipe.id)}
    >
      Measure again
    </button>
  );
}

function Delivered({ line }: { line: LineData }) {
  if (line.delivered === null || !line.answerable) {
    return (
      <div className="delivered">
        <div className="soft">Delivered</div>
        <div className="small-text soft">
          {line.delivered === null
            ? "Measured when the recipe has been built."
            : "Measured once questions have labels."}
        </div>
        {line.earlier && line.answerable === 0 && <MeasureAgain line={line} />}
      </div>
    );
  }
  const half = ((line.high ?? 0) - (line.low ?? 0)) / 2;
  return (
    <div className="delivered" data-delivered={line.delivered}>
      <div className="soft small-text">{line.earlier ? "Last measured" : "Delivered"}</div>
      <div className="figure num">{percent(line.delivered / line.answerable)}</div>
      <div className="small-text num">
        {line.delivered} of {line.answerable} {line.earlier ? "delivered" : "questions"}
      </div>
      {line.earlier ? (
        <div className="small-text">
          {ofEarlier(line.earlier)}
          <MeasureAgain line={line} />
        </div>
      ) : (
        <div className="small-text soft num">± {(100 * half).toFixed(1)} points at 95 %</div>
      )}
    </div>
  );
}
