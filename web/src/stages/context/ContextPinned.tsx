// Context, for a question: what is handed on, piece by piece or as it is written, and what was left out.
import { useState } from "react";
import type { Asked, StageTrace } from "../../api/client";
import { useLine } from "../../api/queries";
import { mark, pictureKeys } from "../../shell/pictureKeys";
import { Segments } from "../../shell/Segments";
import { Empty } from "../../shell/states";
import { score } from "../../text/numbers";
import { chunksByNumber, place, stageOfKind } from "../shared/trace";
import { AnswerSaid } from "./AnswerSaid";
import { goToPiece, PieceCard, type Piece } from "./PieceCard";

/** How likely the question is answered at all, and below what the context stays empty. */
function Answered({ answered, least }: { answered: number | null; least: number | null }) {
  if (answered === null) return null;
  const empty = least !== null && answered < least;
  return (
    <p className="small-text num mb-2">
      That anything here answers: probability <strong>{score(answered)}</strong>
      {least !== null && (
        <span className={empty ? "lost" : "soft"}>
          {empty ? `, below ${score(least)}: the context is left empty` : `; empty below ${score(least)}`}
        </span>
      )}
    </p>
  );
}

type Form = "pieces" | "written";

export function ContextPinned({ asked }: { asked: Asked }) {
  const line = useLine();
  const [form, setForm] = useState<Form>("pieces");
  const stage = stageOfKind(asked, "context");
  const select = line.data?.recipe.body.select;
  if (!stage) return <Empty title="Nothing was packed" />;
  if (stage.chunks.length === 0)
    return (
      <Empty title="Nothing found">
        No passage reached the context: the assistant says that it does not know.
        <Answered answered={asked.trace.answered} least={select?.empty_below ?? null} />
        <AnswerSaid asked={asked} />
      </Empty>
    );
  const { pieces, written } = asked.handed;
  const budget = select?.budget_tokens ?? asked.trace.tokens;
  const passages = stage.kept.filter(Boolean).length;
  return (
    <>
      <div className="d-flex align-items-baseline gap-3 mb-1">
        <h3 className="num mb-0">
          {pieces.length} {pieces.length === 1 ? "piece" : "pieces"}
          {passages !== pieces.length && ` of ${passages} passages`}, {asked.trace.tokens.toLocaleString()} of{" "}
          {budget.toLocaleString()} tokens
        </h3>
        <span className="ms-auto">
          <Segments
            options={[
              ["pieces", "Piece by piece"],
              ["written", "As it is sent"],
            ]}
            value={form}
            choose={setForm}
          />
        </span>
      </div>
      <Answered answered={asked.trace.answered} least={select?.empty_below ?? null} />
      <Budget pieces={pieces} asked={asked} stage={stage} budget={budget} />
      <AnswerSaid asked={asked} />
      {form === "written" ? (
        <Sent written={written} tokens={asked.handed.tokens} />
      ) : (
        <div style={{ maxWidth: "54rem" }}>
          {pieces.map((piece) => (
            <PieceCard key={piece.number} piece={piece} asked={asked} stage={stage} />
          ))}
          <LeftOut asked={asked} stage={stage} />
        </div>
      )}
    </>
  );
}

/** How much of the budget each piece takes; what holds an answer stands out. */
function Budget({
  pieces,
  asked,
  stage,
  budget,
}: {
  pieces: Piece[];
  asked: Asked;
  stage: StageTrace;
  budget: number;
}) {
  const chunks = chunksByNumber(asked);
  const length = (piece: Piece) => Math.max(piece.end - piece.start, 1);
  const all = pieces.reduce((sum, piece) => sum + length(piece), 0);
  // A piece as it was found has a count of its own; of others the tokens are shared out by their lengths.
  const cost = (piece: Piece) =>
    stage.ranges
      ? Math.round((asked.trace.tokens * length(piece)) / all)
      : (chunks.get(piece.chunks[0] ?? -1)?.handed ?? 0);
  return (
    <div
      className="budget mb-3"
      role="group"
      aria-label={`${asked.trace.tokens} of ${budget} tokens used`}
      aria-description="Each part is a piece; arrow keys go from one to the next, Enter goes to it."
      onKeyDown={pictureKeys}
    >
      {pieces.map((piece, at) => {
        const told = `piece ${piece.number}: ${stage.ranges ? "about " : ""}${cost(piece)} tokens`;
        return (
          <span
            key={piece.number}
            title={told}
            {...mark(`${told}${piece.answers.length ? ", holds an answer" : ""}`, at === 0)}
            onClick={() => goToPiece(piece.number)}
            style={{
              width: `${(100 * cost(piece)) / budget}%`,
              background: piece.answers.length ? "var(--answer)" : "var(--pale)",
            }}
          />
        );
      })}
    </div>
  );
}

/** All of it as the assistant reads it. */
function Sent({ written, tokens }: { written: string; tokens: number }) {
  return (
    <>
      <p className="small-text soft num mb-2">
        {tokens.toLocaleString()} tokens with what the template adds. The template is a setting of the
        context.
      </p>
      <pre className="sent" tabIndex={0} aria-label="The context as it is sent">
        {written || "Nothing is sent."}
      </pre>
    </>
  );
}

/** Whether a piece holds all of a chunk. */
const holds = (piece: Piece, chunk: Asked["chunks"][number]) =>
  piece.document === chunk.document && piece.start <= chunk.start && chunk.end <= piece.end;

/** Passages that came so far and are not handed on, with the reason of each. */
function LeftOut({ asked, stage }: { asked: Asked; stage: StageTrace }) {
  const chunks = chunksByNumber(asked);
  const out = stage.chunks.flatMap((number, row) =>
    stage.kept[row] ? [] : [{ number, row, chunk: chunks.get(number) }],
  );
  if (!out.length) return null;
  return (
    <section className="left-out">
      <h3>
        Left out <span className="soft fw-normal">of what came so far, best first</span>
      </h3>
      <ol>
        {out.map(({ number, row, chunk }) => {
          const other = stage.instead?.[row] ?? -1;
          const inside = chunk && asked.handed.pieces.find((piece) => holds(piece, chunk));
          return (
            <li key={number} value={stage.before?.[row] ?? row + 1}>
              <span className={chunk?.relevant ? "gain" : ""}>
                {place(chunk)} <span className="soft">chunk {number}</span>
              </span>
              <span className="lost">
                {stage.reasons[row]}
                {other >= 0 && `: ${place(chunks.get(other))}`}
              </span>
              {inside && <span className="soft"> its words stand in piece {inside.number} all the same</span>}
            </li>
          );
        })}
      </ol>
    </section>
  );
}
