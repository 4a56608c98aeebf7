// Reranked: the shortlist before and after the scorer, what its score rests on, the floor, the depth, a scorer alone.
import { useState } from "react";
import type { Asked } from "../../api/client";
import { useLine, useQuestions } from "../../api/queries";
import { useScorers } from "./api";
import { Segments } from "../../shell/Segments";
import { BLEND_OF_SEVERAL, usesOf } from "../../recipe/scorers";
import { useGo } from "../../shell/pin";
import { Empty, Measured } from "../../shell/states";
import { milliseconds, score } from "../../text/numbers";
import { Figures, StageHead } from "../shared/Figures";
import { FlowOrList, type Shape } from "../shared/FlowOrList";
import { HitList, firstChoice } from "../shared/HitList";
import { PassageCard } from "../shared/Passage";
import { RankFlow } from "../shared/RankFlow";
import { TokenMatches } from "../shared/TokenMatches";
import { chunksByNumber, place, stageOfKind } from "../shared/trace";
import { Depth } from "./Depth";
import { Fit } from "./Fit";
import { FloorPicture } from "./FloorPicture";
import { RestsOn } from "./RestsOn";
import { Slope } from "./Slope";
import { TryScorer } from "./TryScorer";

type Side = "moves" | "floor" | "depth" | "fit" | "try";
const SIDES: [Side, string][] = [
  ["moves", "Before and after"],
  ["floor", "Floor"],
  ["depth", "Shortlist depth"],
  ["fit", "Fit to labels"],
  ["try", "Try a scorer"],
];

function NotHere() {
  return (
    <Empty title="This recipe does not rerank">
      The fused order is kept. Switch reranking on in the recipe to see what it changes.
    </Empty>
  );
}

interface Used {
  name: string;
  title: string;
  /** Whether it says which tokens met. */
  late: boolean;
  /** Whether it weighs others. */
  fitted: boolean;
  /** Whether its weights came with the product. */
  shipped: boolean;
  weight: number;
}

interface Step {
  scorers: Used[];
  blend: number;
  window: number | null;
  windows: number | null;
}

/** What reranks in the recipe in force, and what people call it; nothing until it is known what kind each is. */
function useStep(): Step {
  const line = useLine();
  const scorers = useScorers();
  const settings = line.data?.recipe.body.rerank;
  const uses = usesOf(settings);
  const found = uses.flatMap(({ scorer, weight }) => {
    const row = scorers.data?.find((one) => one.name === scorer);
    if (!row) return [];
    const { title, by_token: late, fitted, shipped, blend } = row;
    return [{ name: scorer, title, late, fitted, shipped, weight, blend }];
  });
  return {
    scorers: found,
    blend: settings?.blend ?? (found.length > 1 ? BLEND_OF_SEVERAL : (found[0]?.blend ?? 0)),
    window: settings?.window ?? null,
    windows: settings?.windows ?? null,
  };
}

function what({ scorers, blend, window, windows }: Step): string {
  const joint = scorers.filter((one) => !one.late && !one.fitted);
  const told: string[] = [];
  const weighing = scorers.find((one) => one.fitted);
  if (weighing)
    told.push(
      weighing.shipped
        ? "Scorers and plain facts of a pair, with weights that other documentation spoke for; Fit to labels moves them towards yours."
        : "Scorers and plain facts of a pair, with the weights that your labels spoke for.",
    );
  if (scorers.some((one) => one.late))
    told.push(
      "Late interaction: each token of the question takes its best match among the passage’s tokens. Question and passage are still encoded apart.",
    );
  if (joint.length)
    told.push(
      `The ${joint.map((one) => one.title).join(" and the ")} read${joint.length > 1 ? "" : "s"} question and passage together` +
        (window
          ? `, in windows of ${window} tokens; ${windows ? `the ${windows === 1 ? "one" : windows} that late interaction likes best ${windows === 1 ? "is" : "are"} read, and ` : ""}the best is the passage’s score.`
          : "."),
    );
  if (scorers.length > 1)
    told.push(
      `Each is standardised over the shortlist and weighed ${scorers.map((one) => score(one.weight)).join(" : ")}.`,
    );
  if (blend) told.push(`${score(blend)} of the fused score, brought to the same spread, is added.`);
  return told.join(" ");
}

export function Reranked() {
  const line = useLine();
  const step = useStep();
  const [side, setSide] = useState<Side>("moves");
  const here = line.data?.stages.some((stage) => stage.kind === "reranked") ?? true;
  return (
    <>
      <StageHead title="Reranked">{here ? what(step) : "This recipe keeps the fused order."}</StageHead>
      <div className="body">
        <Segments options={here ? SIDES : SIDES.slice(-1)} value={here ? side : "try"} choose={setSide} />
        {!here || side === "try" ? (
          <TryScorer />
        ) : side === "moves" ? (
          <Measured>
            <Moves />
          </Measured>
        ) : side === "floor" ? (
          <Measured>
            <FloorPicture />
          </Measured>
        ) : side === "fit" ? (
          <Fit />
        ) : (
          <Depth />
        )}
      </div>
    </>
  );
}

function Moves() {
  const questions = useQuestions();
  const go = useGo();
  const rows = (questions.data ?? []).filter(
    (row) => row.answerable && row.ranks.fused && row.ranks.reranked,
  );
  const moved = rows.map((row) => ({ row, by: row.ranks.fused! - row.ranks.reranked! }));
  const up = moved.filter(({ by }) => by > 0);
  const down = moved.filter(({ by }) => by < 0);
  const mrr = (stage: string) =>
    rows.reduce((sum, row) => sum + 1 / row.ranks[stage]!, 0) / Math.max(rows.length, 1);
  const pairs = rows.map((row) => [row.ranks.fused!, row.ranks.reranked!] as [number, number]);
  return (
    <>
      <Figures
        rows={[
          [up.length, "answers moved up"],
          [moved.length - up.length - down.length, "stayed"],
          [down.length, "moved down"],
          [
            `${score(mrr("fused"))} to ${score(mrr("reranked"))}`,
            "mean reciprocal rank within the shortlist, larger is better",
          ],
        ]}
      />
      <div className="split two" style={{ height: "auto" }}>
        <div>
          <h3>
            The first relevant chunk of each question{" "}
            <span className="soft fw-normal">
              <span className="gain">up</span>, <span className="lost">down, dashed</span>
            </span>
          </h3>
          <Slope pairs={pairs} depth={Math.max(...pairs.flat(), 5)} />
        </div>
        <div>
          <h3>Moved down most</h3>
          {down
            .sort((a, b) => a.by - b.by)
            .slice(0, 9)
            .map(({ row }) => (
              <button
                key={row.id}
                type="button"
                className="hit"
                style={{ gridTemplateColumns: "1fr auto" }}
                onClick={() => go({ pin: { question: row.id, text: null } })}
              >
                <span>{row.text}</span>
                <span className="num lost">
                  {row.ranks.fused} → {row.ranks.reranked}
                </span>
              </button>
            ))}
          {down.length === 0 && <p className="soft">None.</p>}
        </div>
      </div>
    </>
  );
}

export function RerankedPinned({ asked }: { asked: Asked }) {
  const [side, setSide] = useState<"question" | "try">("question");
  const fused = stageOfKind(asked, "fused");
  if (!stageOfKind(asked, "reranked") || !fused) return <NotHere />;
  const chunks = chunksByNumber(asked);
  const shortlist = fused.chunks.filter((_, row) => fused.kept[row]);
  return (
    <>
      <Segments
        options={[
          ["question", "This question"],
          ["try", "Try a scorer"],
        ]}
        value={side}
        choose={setSide}
      />
      {side === "question" ? (
        <Question asked={asked} />
      ) : (
        <TryScorer
          key={asked.trace.question}
          given={{
            question: asked.trace.question,
            passages: shortlist.map((number) => chunks.get(number)?.text ?? ""),
            places: shortlist.map((number) => place(chunks.get(number))),
          }}
        />
      )}
    </>
  );
}

function Question({ asked }: { asked: Asked }) {
  const step = useStep();
  const [named, setNamed] = useState<string | null>(null);
  // A joint scorer says most about a passage.
  const scorer =
    step.scorers.find((one) => one.name === named) ??
    step.scorers.find((one) => !one.late) ??
    step.scorers[0];
  const scorers = useScorers();
  const titles = new Map((scorers.data ?? []).map((one) => [one.name, one.title]));
  const chunks = chunksByNumber(asked);
  const fused = stageOfKind(asked, "fused");
  const stage = stageOfKind(asked, "reranked");
  const [chosen, setChosen] = useState(() => firstChoice(stage, chunks));
  const [shape, setShape] = useState<Shape>("flow");
  if (!stage || !fused) return <NotHere />;
  const parts = <Parts asked={asked} chosen={chosen} titles={titles} fitted={scorer?.fitted ?? false} />;
  const passes = stage.kept.filter(Boolean).length;
  const shortlist = fused.chunks.filter((_, row) => fused.kept[row]);
  return (
    <div className="split two">
      <div>
        <div className="d-flex justify-content-between align-items-baseline">
          <h3>
            Shortlist of {shortlist.length}{" "}
            <span className="soft fw-normal num">{milliseconds(stage.seconds)}</span>
          </h3>
          <FlowOrList shape={shape} choose={setShape} />
        </div>
        {shape === "list" ? (
          <HitList
            stage={stage}
            chunks={chunks}
            chosen={chosen}
            choose={setChosen}
            tone="var(--reranked)"
            note={(row) =>
              `was ${stage.before?.[row]}${stage.reasons[row] ? `, ${stage.reasons[row]}` : ", goes on"}`
            }
          />
        ) : (
          <RankFlow
            width={430}
            lanes={[
              { id: "fused", title: "Fused", kind: "fused", chunks: shortlist },
              { id: "reranked", title: "Reranked", kind: "reranked", chunks: stage.chunks, passes },
            ]}
            links={[[0, 1]]}
            chunks={chunks}
            chosen={chosen}
            choose={setChosen}
            passText={() => `first ${passes} go on`}
          />
        )}
        {stage.raw && (
          <p className="small-text soft mb-0 num">
            {stage.probability
              ? "Shown: the probability that the passage answers, by its own scores; the order has a share of the fused score besides."
              : `Score: ${stage.measure}; larger is better.`}{" "}
            {stage.parts.length === 0 &&
              `Raw scores from ${score(Math.max(...stage.raw))} down to ${score(Math.min(...stage.raw))}.`}
          </p>
        )}
      </div>
      <div>
        {step.scorers.length > 1 && (
          <Segments
            options={step.scorers.map((one) => [one.name, one.title])}
            value={scorer?.name ?? ""}
            choose={setNamed}
          />
        )}
        {scorer?.fitted && parts}
        {scorer?.late ? (
          <TokenMatches asked={asked} chosen={chosen} tone="var(--reranked)" />
        ) : (
          <Together
            asked={asked}
            chosen={chosen}
            scorer={scorer && !scorer.fitted ? scorer.name : ""}
            windowed={step.window !== null}
          />
        )}
        {!scorer?.fitted && parts}
      </div>
    </div>
  );
}

/** The chosen passage of a joint scorer, sentence by sentence, and its scores. */
function Together({
  asked,
  chosen,
  scorer,
  windowed,
}: {
  asked: Asked;
  chosen: number | null;
  scorer: string;
  windowed: boolean;
}) {
  const chunk = chunksByNumber(asked).get(chosen ?? -1);
  const stage = stageOfKind(asked, "reranked")!;
  const row = stage.chunks.indexOf(chosen ?? -1);
  const window = stage.windows?.[row];
  return (
    <div>
      {scorer === "" && chunk && <PassageCard chunk={chunk} show="tokens" tokens={[]} />}
      {scorer !== "" && (
        <RestsOn
          scorer={scorer}
          question={asked.trace.question}
          passage={chunk?.text ?? null}
          answers={chunk?.answers ?? []}
          window={window && window[0]! >= 0 ? window : null}
          around={windowed && chunk ? [chunk.title, ...chunk.section] : []}
        />
      )}
      {row >= 0 && (
        <p className="small-text soft num mt-2">
          {place(chunk)}: rank {row + 1}, was {stage.before?.[row]};{" "}
          {stage.probability
            ? `answers with probability ${score(stage.probability[row]!)}`
            : score(stage.scores[row]!)}
          {stage.raw && stage.parts.length === 0 && `, raw ${score(stage.raw[row]!)}`}
          {chunk?.relevant && ", holds the answer"}
        </p>
      )}
    </div>
  );
}

/** What each of several scorers gave the chosen passage, and where that stands in the shortlist. */
function Parts({
  asked,
  chosen,
  titles,
  fitted,
}: {
  asked: Asked;
  chosen: number | null;
  titles: Map<string, string>;
  fitted: boolean;
}) {
  const stage = stageOfKind(asked, "reranked")!;
  const row = stage.chunks.indexOf(chosen ?? -1);
  if (row < 0 || !stage.parts.length) return null;
  return (
    <table className="table table-sm small-text num mt-2">
      <thead>
        <tr>
          <th>{fitted ? "Scorer or fact" : "Scorer"}</th>
          <th className="text-end">weight</th>
          <th className="text-end">{fitted ? "adds, larger is better" : "raw, larger is better"}</th>
          <th className="text-end">rank by it alone</th>
        </tr>
      </thead>
      <tbody>
        {stage.parts.map((part) => (
          <tr key={part.scorer}>
            <td title={part.measure}>{titles.get(part.scorer) ?? (fitted ? part.measure : part.scorer)}</td>
            <td className="text-end">{score(part.weight)}</td>
            <td className="text-end">{score(part.raw[row]!)}</td>
            <td className="text-end">{1 + part.raw.filter((value) => value > part.raw[row]!).length}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
