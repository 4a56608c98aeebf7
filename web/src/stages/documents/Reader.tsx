// A document as it was parsed, with ranges marked: answers, found words, overlap, tokens that are not read.
import { Fragment, useEffect, useMemo, useRef } from "react";
import type { DocumentText } from "../../api/client";
import { codePoints, pieces, type Range } from "../../text/codepoints";
import { Figure, type FigureData } from "../../text/Figure";

export interface MarkedRange extends Range {
  kind: "answer" | "pinned" | "twice" | "found" | "here" | "past" | "odd" | "cut" | "focus";
}
export interface Bound {
  at: number;
  label: string;
  title?: string;
}

export function Reader({
  document,
  marks,
  bounds = [],
  hosts = [],
  show,
  dropped = [],
}: {
  document: DocumentText;
  marks: MarkedRange[];
  /** Where a chunk begins, with its number. */
  bounds?: Bound[];
  /** Host chunks, drawn as a rail beside the text. */
  hosts?: Range[];
  /** Offset that is scrolled into view. */
  show?: number;
  /** Sections that a person left out. */
  dropped?: Range[];
}) {
  const points = useMemo(() => codePoints(document.text), [document.text]);
  const frame = useRef<HTMLDivElement>(null);
  const labels = useMemo(() => new Map(bounds.map((bound) => [bound.at, bound])), [bounds]);
  const ranges = useMemo(
    () => [...marks, ...bounds.map(({ at }) => ({ start: at, end: at + 1, kind: "edge" }))],
    [marks, bounds],
  );
  useEffect(() => {
    const inside = frame.current?.querySelectorAll<HTMLElement>("[data-at]") ?? [];
    const block = [...inside].reverse().find((one) => Number(one.dataset.at) <= (show ?? 0));
    const target =
      frame.current?.querySelector("mark.pinned, mark.here, mark.focus") ?? (show ? block : null);
    target?.scrollIntoView({ block: "center" });
  }, [document.id, show]);
  const figures = useMemo(
    () => byBlockBelow(document.figures, document.blocks),
    [document.figures, document.blocks],
  );
  const byBlock = useMemo(() => sorted(ranges, document.blocks), [ranges, document.blocks]);
  return (
    <div className={hosts.length ? "reader railed" : "reader"} data-document={document.id} ref={frame}>
      {document.blocks.map((block, row) => {
        if (block.kind === "page")
          return (
            <div key={`page-${block.level}`} className="page-break" data-page={block.level}>
              <span>page {block.level}</span>
            </div>
          );
        const shown = figures.get(row) ?? [];
        const host = hosts.findIndex((one) => one.start < block.end && one.end > block.start);
        const out = dropped.some((one) => one.start <= block.start && one.end >= block.end);
        const text = (
          <div
            key={block.start}
            data-at={block.start}
            data-host={host < 0 ? undefined : host % 2 ? "odd" : "even"}
            className={`${block.kind === "heading" ? `heading l${block.level}` : `text-${block.kind}`} ${out ? "dropped" : ""}`}
            style={
              block.kind === "item"
                ? { paddingLeft: `${1.1 * block.level}em`, textIndent: "-0.8em" }
                : undefined
            }
          >
            {pieces(points, block.start, block.end, byBlock[row]!).map((piece) => {
              const label = labels.get(piece.start);
              const kinds = piece.kinds.filter((kind) => kind !== "edge");
              return (
                <span key={piece.start}>
                  {label && (
                    <span className="chunk-start" title={label.title}>
                      {label.label}
                    </span>
                  )}
                  {kinds.length ? <mark className={kinds.join(" ")}>{piece.text}</mark> : piece.text}
                </span>
              );
            })}
          </div>
        );
        if (!shown.length) return text;
        return (
          <Fragment key={block.start}>
            {shown.map((figure) => (
              <Figure key={figure.number} document={document.id} figure={figure} />
            ))}
            {text}
          </Fragment>
        );
      })}
      {(figures.get(document.blocks.length) ?? []).map((figure) => (
        <Figure key={figure.number} document={document.id} figure={figure} />
      ))}
    </div>
  );
}

/** Pictures by the block that they stand before: what is said in their place, or whatever comes next. */
function byBlockBelow(figures: FigureData[], blocks: { kind: string; start: number }[]) {
  const found = new Map<number, FigureData[]>();
  for (const figure of figures) {
    const row = blocks.findIndex(({ kind, start }) => kind !== "page" && start >= figure.start);
    const place = row < 0 ? blocks.length : row;
    found.set(place, [...(found.get(place) ?? []), figure]);
  }
  return found;
}

/** The ranges that touch each block, so that no block looks through all of them. */
function sorted<T extends Range>(ranges: T[], blocks: Range[]): T[][] {
  const rows: T[][] = blocks.map(() => []);
  for (const range of ranges) {
    let low = 0;
    let high = blocks.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (blocks[middle]!.end <= range.start) low = middle + 1;
      else high = middle;
    }
    for (let row = low; row < blocks.length && blocks[row]!.start < range.end; row++) rows[row]!.push(range);
  }
  return rows;
}
