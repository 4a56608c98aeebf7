// Reranked: the shortlist before and after the joint scorer, and which words moved a passage.
import { useState } from "react";
import type { Asked } from "../../api/client";
import { useLine, useMatches, useQuestions } from "../../api/queries";
import { useGo } from "../../shell/pin";
import { Empty } from "../../shell/states";
import { milliseconds, score } from "../../text/numbers";
import { Bars } from "../shared/Bars";
import { Figures, StageHead } from "../shared/Figures";
import { FlowOrList, type Shape } from "../shared/FlowOrList";
import { HitList, firstChoice } from "../shared/HitList";
import { PassageCard } from "../shared/Passage";
import { RankFlow } from "../shared/RankFlow";
import { chunksByNumber, stageOfKind } from "../shared/trace";

const WHAT =
  "Late interaction: each token of the question takes its best match among the passage’s tokens, weighted by how rare the token is. Question and passage are still encoded apart; it is not a cross-encoder that reads them together.";

function NotHere() {
  return (
    <Empty title="This recipe does not rerank">
      The fused order is kept. Switch reranking on in the recipe to see what it changes.
    </Empty>
  );
}

export function Reranked() {
  const questions = useQuestions();
  const line = useLine();
  const go = useGo();
  if (line.data && !line.data.stages.some((stage) => stage.kind === "reranked")) return <NotHere />;
  const rows = (questions.data ?? []).filter(
    (row) => row.answerable && row.ranks.fused && row.ranks.reranked,
  );
  const moved = rows.map((row) => ({ row, by: row.ranks.fused! - row.ranks.reranked! }));
  const up = moved.filter(({ by }) => by > 0);
  const down = moved.filter(({ by }) => by < 0);
  const mrr = (stage: string) =>
    rows.reduce((sum, row) => sum + 1 / row.ranks[stage]!, 0) / Math.max(rows.length, 1);
  const bins: [string, number, number][] = [
    ["10+ up", 10, 99],
    ["4–9 up", 4, 9],
    ["1–3 up", 1, 3],
    ["same", 0, 0],
    ["1–3 down", -3, -1],
    ["4–9 down", -9, -4],
    ["10+ down", -99, -10],
  ];
  return (
    <>
      <StageHead title="Reranked">{WHAT}</StageHead>
      <div className="body">
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
            <h3>How far the first relevant chunk moved</h3>
            <Bars
              tone="var(--reranked)"
              data={bins.map(([name, low, high]) => ({
                name,
                value: moved.filter(({ by }) => by >= low && by <= high).length,
              }))}
              x="ranks, against the fused order"
              y="questions"
              height={230}
            />
          </div>
          <div>
            <h3>Moved down most</h3>
            {down
              .sort((a, b) => a.by - b.by)
              .slice(0, 8)
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
      </div>
    </>
  );
}

export function RerankedPinned({ asked }: { asked: Asked }) {
  const chunks = chunksByNumber(asked);
  const fused = stageOfKind(asked, "fused");
  const stage = stageOfKind(asked, "reranked");
  const [chosen, setChosen] = useState(() => firstChoice(stage, chunks));
  const [shape, setShape] = useState<Shape>("flow");
  const matches = useMatches(asked.trace.question, stage ? chosen : null);
  if (!stage || !fused) return <NotHere />;
  const passes = stage.kept.filter(Boolean).length;
  const shortlist = fused.chunks.filter((_, row) => fused.kept[row]);
  const most = Math.max(...(matches.data ?? []).map((match) => match.weight * match.cosine), 1e-9);
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
        <p className="small-text soft mb-0">
          Late interaction, not a cross-encoder: question and passage are encoded apart.
        </p>
      </div>
      <div>
        <h3>
          What the question&apos;s tokens were matched with{" "}
          <span className="soft fw-normal">darker adds more to the score</span>
        </h3>
        <PassageCard
          chunk={chosen === null ? undefined : chunks.get(chosen)}
          show="tokens"
          tokens={(matches.data ?? []).map((match) => ({
            start: match.start,
            end: match.end,
            strength: 0.08 + (0.5 * Math.max(match.weight * match.cosine, 0)) / most,
          }))}
        />
        {matches.data && (
          <table
            className="table table-sm small-text num mt-2"
            style={{ "--tone": "var(--reranked)" } as React.CSSProperties}
          >
            <thead>
              <tr>
                <th>Token</th>
                <th>matched with</th>
                <th className="text-end">cosine</th>
                <th>weight × cosine</th>
              </tr>
            </thead>
            <tbody>
              {matches.data.map((match, row) => (
                <tr key={row}>
                  <td className="mono">{match.token}</td>
                  <td className="mono">
                    {Array.from(chunks.get(chosen ?? -1)?.text ?? "")
                      .slice(match.start, match.end)
                      .join("")}
                  </td>
                  <td className="text-end">{score(match.cosine)}</td>
                  <td>
                    <span
                      className="bar"
                      style={{ width: `${(70 * Math.max(match.weight * match.cosine, 0)) / most}px` }}
                    />{" "}
                    {score(match.weight * match.cosine)}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </div>
  );
}
