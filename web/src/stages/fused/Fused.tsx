// Fused: the rank flow of one question, and the mix that pours two rankings into one.
import { useState } from "react";
import { Table } from "react-bootstrap";
import type { Asked, QuestionRow, StageTrace } from "../../api/client";
import { useQuestions } from "../../api/queries";
import { Empty, Measured } from "../../shell/states";
import { milliseconds, score } from "../../text/numbers";
import { StageHead } from "../shared/Figures";
import { FlowOrList, type Shape } from "../shared/FlowOrList";
import { HitList, firstChoice } from "../shared/HitList";
import { PassageCard } from "../shared/Passage";
import { WhyNotChunk } from "../shared/WhyNot";
import { ROWS, RankFlow, type Lane } from "../shared/RankFlow";
import { chunksByNumber, kindOf } from "../shared/trace";
import { useBranches } from "../shared/branch";
import { FitMix } from "./FitMix";
import { MixPanel } from "./MixPanel";

const AMONG = 5;
type Branch = ReturnType<typeof useBranches>[number];
type Cell = [name: string, found: QuestionRow[], tone: string];

export function Fused() {
  const count = useBranches().length;
  const [two, several] = [count === 2, count > 2];
  return (
    <>
      <StageHead title="Fused">
        The rankings of the branches poured into one. Pin a question to see its rank flow; j pins the first
        one.
      </StageHead>
      <div className="body">
        <Measured>
          {two ? (
            <div
              className="split"
              style={{ gridTemplateColumns: "minmax(0,1.5fr) minmax(0,1fr)", height: "auto" }}
            >
              <div>
                <MixPanel tall />
                <FitMix />
              </div>
              <div>
                <WhoFindsWhat />
                <ByTag />
              </div>
            </div>
          ) : (
            <div
              className="split"
              style={{ gridTemplateColumns: "minmax(0,1fr) minmax(0,1.6fr)", height: "auto" }}
            >
              <div>
                <WhoFindsWhat />
                <p className="small-text soft">The mix is measured where a recipe has two branches.</p>
              </div>
              <div>
                <ByTag />
                {several && <FitMix />}
              </div>
            </div>
          )}
        </Measured>
      </div>
    </>
  );
}

function WhoFindsWhat() {
  const questions = useQuestions();
  const branches = useBranches();
  if (branches.length < 2)
    return <p className="soft small-text">Who finds what is shown for recipes with several branches.</p>;
  const rows = (questions.data ?? []).filter((row) => row.answerable && row.cause !== null);
  const among = (rank: number | null | undefined) => rank !== null && rank !== undefined && rank <= AMONG;
  const finders = (row: QuestionRow) => branches.filter(({ id }) => among(row.ranks[id]));
  const where = (fits: (found: Branch[]) => boolean) => rows.filter((row) => fits(finders(row)));
  const all = branches.length;
  const cells: Cell[] = [
    [
      all === 2 ? "both branches" : `all ${all} branches`,
      where((found) => found.length === all),
      "var(--answer)",
    ],
    ...(all > 2
      ? [["several of them", where(({ length }) => length > 1 && length < all), "var(--fused)"] as Cell]
      : []),
    ...branches.map(
      ({ id, family }) =>
        [
          `${id} alone`,
          where((found) => found.length === 1 && found[0]!.id === id),
          `var(--${family})`,
        ] as Cell,
    ),
    [all === 2 ? "neither" : "none", where((found) => found.length === 0), "var(--lost)"],
  ];
  return (
    <div>
      <h3>Who has an answer among its first {AMONG}</h3>
      <Table size="sm" className="small-text num">
        <thead>
          <tr>
            <th>Found by</th>
            <th className="text-end">Questions</th>
            <th className="text-end">of them fused keeps</th>
          </tr>
        </thead>
        <tbody>
          {cells.map(([name, found, tone]) => (
            <tr key={name}>
              <td style={{ color: tone, fontWeight: 600 }}>{name}</td>
              <td className="text-end">{found.length}</td>
              <td className="text-end">{found.filter((row) => among(row.ranks.fused)).length}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <p className="small-text soft">
        Questions that one branch alone finds are what fusion is for; those that it then buries are what the
        mix costs.
      </p>
    </div>
  );
}

/** Each branch and the fused list by the kind of question: codes are for one, paraphrase for the other. */
function ByTag() {
  const questions = useQuestions();
  const stages = [
    ...useBranches().map(({ id, family }) => ({ kind: family as string, name: id })),
    { kind: "fused", name: "fused" },
  ];
  const two = stages.length === 3;
  const rows = (questions.data ?? []).filter((row) => row.answerable && row.cause !== null);
  const tags = [...new Set(rows.flatMap((row) => row.tags))]
    .map((tag) => ({ tag, of: rows.filter((row) => row.tags.includes(tag)) }))
    .sort((a, b) => b.of.length - a.of.length);
  if (tags.length === 0) return null;
  return (
    <>
      <h3 className={two ? "mt-3" : ""}>By kind of question, larger is better</h3>
      <Table size="sm" className="small-text num mb-0">
        <thead>
          <tr>
            <th>Tag</th>
            <th className="text-end">Questions</th>
            {stages.map(({ name }) => (
              <th key={name}>{name}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {tags.map(({ tag, of }) => (
            <tr key={tag}>
              <td>{tag}</td>
              <td className="text-end">{of.length}</td>
              {stages.map(({ kind, name }) => {
                const found = of.filter((row) => (row.ranks[name] ?? 99) <= AMONG).length;
                return (
                  <td
                    key={name}
                    className="text-nowrap"
                    style={{ "--tone": `var(--${kind})` } as React.CSSProperties}
                  >
                    <span className="bar" style={{ width: (44 * found) / of.length }} /> {found}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

export function FusedPinned({ asked }: { asked: Asked }) {
  const chunks = chunksByNumber(asked);
  const branches = asked.trace.stages.filter((stage) => stage.kind === "branch");
  const fused = asked.trace.stages.find((stage) => stage.kind === "fused");
  const [chosen, setChosen] = useState<number | null>(() => firstChoice(fused, chunks));
  const [shape, setShape] = useState<Shape>("flow");
  if (!fused) return <Empty title="Nothing was fused" />;
  const passes = fused.kept.filter(Boolean).length;
  const lane = (stage: StageTrace): Lane => ({
    id: stage.stage,
    title: stage.kind === "branch" ? stage.stage[0]!.toUpperCase() + stage.stage.slice(1) : "Fused",
    kind: kindOf(asked, stage),
    chunks: stage.chunks,
    passes: stage.kind === "fused" ? passes : undefined,
  });
  // The fused list stands among the branches, so that threads are short.
  const middle = Math.max(1, Math.floor(branches.length / 2));
  const lanes = [...branches.slice(0, middle), fused, ...branches.slice(middle)].map(lane);
  const links = lanes
    .map((_, place) => [place, middle] as [number, number])
    .filter(([from]) => from !== middle);
  const row = chosen === null ? -1 : fused.chunks.indexOf(chosen);
  return (
    <div className="split" style={{ gridTemplateColumns: "minmax(0,1.25fr) minmax(0,1fr)" }}>
      <div>
        <div className="d-flex justify-content-between align-items-baseline">
          <h3>
            {shape === "list" ? "Fused ranking" : "Rank flow"}{" "}
            <span className="soft fw-normal num">
              first {Math.min(ROWS, fused.chunks.length)} of {fused.chunks.length},{" "}
              {milliseconds(fused.seconds)}
            </span>
          </h3>
          <FlowOrList shape={shape} choose={setShape} />
        </div>
        {shape === "list" ? (
          <HitList
            stage={fused}
            chunks={chunks}
            chosen={chosen}
            choose={setChosen}
            tone="var(--fused)"
            note={(place) => arithmetic(fused, branches, place)}
          />
        ) : (
          <RankFlow
            lanes={lanes}
            links={links}
            chunks={chunks}
            chosen={chosen}
            choose={setChosen}
            passText={() => `first ${passes} go on`}
          />
        )}
        <div className="small-text soft num">
          The first {passes} go on
          {asked.trace.stages.some((s) => s.kind === "reranked") ? " to the reranker" : ""}. A broken thread
          leaves the picture below rank {ROWS}.
        </div>
      </div>
      <div>
        {asked.question && <MixPanel question={asked.question.id} />}
        <div className="mt-2">
          <PassageCard chunk={chosen === null ? undefined : chunks.get(chosen)}>
            {row >= 0 && (
              <div className="small-text num mt-1">
                fused at {row + 1}: {arithmetic(fused, branches, row)}
              </div>
            )}
            {chosen !== null && (
              <div className="small-text mt-1">
                <WhyNotChunk asked={asked} chunk={chosen} />
              </div>
            )}
          </PassageCard>
        </div>
      </div>
    </div>
  );
}

/** What each branch gave to a fused score, as a sum that a person can check. */
function arithmetic(fused: StageTrace, branches: StageTrace[], row: number): string {
  const parts = branches.map((branch, column) => {
    const rank = fused.branch_ranks?.[row]?.[column] ?? 0;
    const share = fused.shares?.[row]?.[column] ?? 0;
    return rank ? `${branch.stage} at ${rank} gives ${share.toFixed(4)}` : `${branch.stage} did not find it`;
  });
  return `${parts.join(" + ")} = ${score(fused.scores[row] ?? 0)}`;
}
