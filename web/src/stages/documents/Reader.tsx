// A document as it was parsed, with answers marked and, where asked for, the bounds of chunks.
import { useEffect, useMemo, useRef } from "react";
import type { DocumentText } from "../../api/client";
import { codePoints, pieces, type Range } from "../../text/codepoints";

export interface MarkedRange extends Range {
  kind: "answer" | "pinned" | "twice";
}

export function Reader({
  document,
  marks,
  chunkStarts = [],
  show,
}: {
  document: DocumentText;
  marks: MarkedRange[];
  chunkStarts?: { number: number; start: number }[];
  /** Offset that is scrolled into view. */
  show?: number;
}) {
  const points = useMemo(() => codePoints(document.text), [document.text]);
  const frame = useRef<HTMLDivElement>(null);
  const cuts = new Map(chunkStarts.map((chunk) => [chunk.start, chunk.number]));
  const ranges = [...marks, ...chunkStarts.map(({ start }) => ({ start, end: start + 1, kind: "edge" }))];
  useEffect(() => {
    const target =
      frame.current?.querySelector("mark.pinned") ?? frame.current?.querySelector(`[data-at="${show}"]`);
    target?.scrollIntoView({ block: "center" });
  }, [document.id, show]);
  return (
    <div className="reader" ref={frame}>
      {document.blocks.map((block) => (
        <div
          key={block.start}
          data-at={block.start}
          className={block.kind === "heading" ? `heading l${block.level}` : block.kind}
          style={
            block.kind === "item"
              ? { paddingLeft: `${1.1 * block.level}em`, textIndent: "-0.8em" }
              : { marginBottom: block.kind === "paragraph" ? "0.55rem" : undefined }
          }
        >
          {pieces(points, block.start, block.end, ranges).map((piece) => {
            const number = cuts.get(piece.start);
            const kinds = piece.kinds.filter((kind) => kind !== "edge");
            return (
              <span key={piece.start}>
                {number !== undefined && <span className="chunk-start">{number}</span>}
                {kinds.length ? <mark className={kinds.join(" ")}>{piece.text}</mark> : piece.text}
              </span>
            );
          })}
        </div>
      ))}
    </div>
  );
}
