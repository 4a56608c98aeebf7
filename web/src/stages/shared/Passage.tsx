// A chunk's text with the answer, the question's terms, or matched tokens marked.
import { Fragment } from "react";
import { codePoints, pieces, type Range } from "../../text/codepoints";
import type { TracedChunk } from "../../api/client";
import { Figures } from "../../text/Figure";
import { place } from "./trace";

interface Weighted extends Range {
  strength: number;
}

export function Passage({
  chunk,
  show = "answer",
  added = [],
  terms = [],
  tokens = [],
}: {
  chunk: Pick<TracedChunk, "text" | "answers" | "document" | "start">;
  show?: "answer" | "terms" | "tokens";
  /** What was not found itself and is handed on with it. */
  added?: Range[];
  terms?: Range[];
  tokens?: Weighted[];
}) {
  const points = codePoints(chunk.text);
  const ranges = [
    ...chunk.answers.map((range) => ({ ...range, kind: "answer" })),
    ...added.map((range) => ({ ...range, kind: "added" })),
    ...(show === "terms" ? terms.map((range) => ({ ...range, kind: "term" })) : []),
    ...(show === "tokens" ? tokens.map((range) => ({ ...range, kind: "token" })) : []),
  ];
  return (
    <div className="passage" data-document={chunk.document}>
      {pieces(points, 0, points.length, ranges).map((piece) => {
        const token = tokens.find((range) => range.start <= piece.start && range.end > piece.start);
        return piece.kinds.length ? (
          <mark
            key={piece.start}
            className={piece.kinds.join(" ")}
            style={token && ({ "--strength": token.strength } as React.CSSProperties)}
          >
            {paragraphs(piece.text, chunk.start + piece.start)}
          </mark>
        ) : (
          <Fragment key={piece.start}>{paragraphs(piece.text, chunk.start + piece.start)}</Fragment>
        );
      })}
    </div>
  );
}

/** Blank lines become small gaps: in a list of passages room is dear. Each part says where in the document it begins. */
function paragraphs(text: string, at: number) {
  let offset = at;
  return text.split(/(\n\n+)/).map((part, place) => {
    const begins = offset;
    offset += codePoints(part).length;
    if (place % 2) return <span key={begins} className="gap" />;
    return (
      part && (
        <span key={begins} data-at={begins}>
          {part}
        </span>
      )
    );
  });
}

export function PassageCard({
  chunk,
  children,
  ...passage
}: {
  chunk: TracedChunk | undefined;
  children?: React.ReactNode;
} & Omit<React.ComponentProps<typeof Passage>, "chunk">) {
  if (!chunk) return <div className="card-passage soft">Choose a row to read its passage.</div>;
  return (
    <div className="card-passage" data-passage={chunk.number}>
      <div className="small-text soft mb-1">{place(chunk)}</div>
      <Passage chunk={chunk} {...passage} />
      <Figures document={chunk.document} figures={chunk.figures} />
      <div className="small-text soft mt-2 num">
        chunk {chunk.number}, {chunk.tokens} tokens
        {chunk.answers.length > 0 &&
          (chunk.relevant ? ", holds the answer" : ", holds too little of the answer")}
      </div>
      {children}
    </div>
  );
}
