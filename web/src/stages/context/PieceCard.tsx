// A piece of the context: its citation, what of it was found, and what was added.
import type { Asked, StageTrace } from "../../api/client";
import type { Schemas } from "../../api/client";
import { Judged } from "../../labels/Judged";
import { score } from "../../text/numbers";
import { codePoints, type Range } from "../../text/codepoints";
import { Figures } from "../../text/Figure";
import { Passage } from "../shared/Passage";
import { chunksByNumber } from "../shared/trace";

export type Piece = Schemas["HandedPiece"];

/** What of a piece was not found itself. */
export function addedTo(piece: Pick<Piece, "found" | "text">): Range[] {
  const added: Range[] = [];
  let reached = 0;
  for (const { start, end } of piece.found) {
    if (start > reached) added.push({ start: reached, end: start });
    reached = Math.max(reached, end);
  }
  const length = codePoints(piece.text).length;
  if (reached < length) added.push({ start: reached, end: length });
  return added;
}

export const goToPiece = (number: number) =>
  document.getElementById(`piece-${number}`)?.scrollIntoView({ block: "center" });

export function PieceCard({ piece, asked, stage }: { piece: Piece; asked: Asked; stage: StageTrace }) {
  const chunks = chunksByNumber(asked);
  const row = stage.chunks.indexOf(piece.chunks[0] ?? -1);
  const repeated = stage.repeated?.[row] ?? 0;
  const rank = stage.before?.[row] ?? row + 1;
  return (
    <div
      id={`piece-${piece.number}`}
      className="card-passage piece mb-2"
      data-place={`${piece.document}:${piece.start}:${piece.end}`}
    >
      <div className="d-flex small-text soft num mb-1 gap-2">
        <strong className={piece.answers.length ? "gain" : ""}>{piece.number}</strong>
        <span>
          <Citation piece={piece} />
          {piece.chunks.map((number) => {
            const chunk = chunks.get(number);
            return chunk && <Judged key={number} chunk={chunk} />;
          })}
        </span>
        <span className="ms-auto text-end">
          {rank !== piece.number && `rank ${rank} before, `}
          {stage.probability
            ? `answers with probability ${score(stage.probability[row] ?? 0)}`
            : `${stage.measure.split(",")[0]} ${score(stage.scores[row] ?? 0)}`}
          {repeated > 0 && `, repeats ${score(repeated)} of what stands above`}
        </span>
      </div>
      <Passage chunk={piece} added={stage.ranges ? addedTo(piece) : []} />
      <Figures document={piece.document} figures={piece.figures} />
      {(piece.widened || piece.chunks.length > 1) && (
        <div className="small-text soft mt-1">
          {[piece.widened && `Handed on: ${piece.widened}`, merged(piece)].filter(Boolean).join("; ")}.
        </div>
      )}
      <Carried piece={piece} />
    </div>
  );
}

/** How many passages are in it, where there are several. */
const merged = (piece: Piece) =>
  piece.chunks.length > 1 ? `${piece.chunks.length} passages that were found stand in it, paid once` : "";

/** Document, section, page and lines, with a link where the source has one. */
function Citation({ piece }: { piece: Piece }) {
  const last = piece.section[piece.section.length - 1];
  const named = last && last !== piece.title ? `${piece.title} › ${last}` : piece.title;
  const [first, end] = piece.lines;
  const where = [
    piece.page > 0 && `p. ${piece.page}`,
    first === end ? `line ${first}` : `lines ${first} to ${end}`,
  ]
    .filter(Boolean)
    .join(", ");
  return (
    <>
      {/^https?:/.test(piece.link) ? (
        <a href={piece.link} target="_blank" rel="noreferrer">
          {named}
        </a>
      ) : (
        named
      )}
      , {where}
    </>
  );
}

/** Fields of the source that were not searched and are handed on. */
function Carried({ piece }: { piece: Piece }) {
  const fields = Object.entries(piece.carried);
  if (!fields.length) return null;
  return (
    <dl className="carried-fields small-text">
      {fields.map(([name, value]) => (
        <div key={name}>
          <dt>{name}</dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}
