// A document with its chunks drawn into the text: bounds, overlap, hosts, tokens that are not read, answers.
import { useMemo } from "react";
import type { DocumentText } from "../../api/client";
import type { Cut } from "./api";
import { Reader, type MarkedRange } from "../documents/Reader";

export function CutText({
  document,
  cut,
  show,
  focus,
}: {
  document: DocumentText;
  cut: Cut | undefined;
  show?: number;
  focus?: { start: number; end: number } | null;
}) {
  const drawn = useMemo(() => draw(cut?.document === document.id ? cut : undefined), [cut, document.id]);
  const marks = useMemo(
    () => (focus ? [...drawn.marks, { ...focus, kind: "focus" as const }] : drawn.marks),
    [drawn, focus],
  );
  return (
    <Reader
      document={document}
      marks={marks}
      bounds={drawn.bounds}
      hosts={drawn.hosts}
      show={show}
      dropped={document.sections.filter((section) => section.dropped)}
    />
  );
}

function draw(cut: Cut | undefined) {
  const chunks = cut?.chunks ?? [];
  const bounds = chunks.map((chunk, row) => ({
    at: chunk.start,
    label: String(row + 1),
    title:
      `chunk ${row + 1}: ${chunk.tokens} tokens` +
      (chunk.context ? ` and ${chunk.context} of context` : "") +
      (chunk.begins_inside ? ", begins inside of a sentence" : "") +
      (chunk.ends_inside ? ", ends inside of a sentence" : ""),
  }));
  const marks: MarkedRange[] = [];
  chunks.forEach((chunk, row) => {
    const before = chunks[row - 1];
    if (row % 2) marks.push({ start: chunk.start, end: chunk.end, kind: "odd" });
    if (before && before.end > chunk.start)
      marks.push({ start: chunk.start, end: Math.min(before.end, chunk.end), kind: "twice" });
    if (chunk.past !== null) marks.push({ start: chunk.past, end: chunk.end, kind: "past" });
  });
  for (const answer of cut?.answers ?? [])
    marks.push({
      start: answer.start,
      end: answer.end,
      kind: answer.state === "intact" ? "answer" : "cut",
    });
  const nested = chunks.some((chunk) => chunk.host_start !== chunk.start || chunk.host_end !== chunk.end);
  const hosts = nested
    ? [...new Map(chunks.map((chunk) => [chunk.host_start, chunk])).values()].map((chunk) => ({
        start: chunk.host_start,
        end: chunk.host_end,
      }))
    : [];
  return { bounds, marks, hosts };
}
