// What people said of a passage for the pinned question, as a mark beside its place.
import { createContext, useContext } from "react";
import type { Asked, TracedChunk } from "../api/client";

/** The pinned question with its labels; null where none is pinned. */
export const PinnedContext = createContext<Asked | null>(null);

interface Labelled {
  document: number;
  start: number | null;
  end: number | null;
}
const overlaps = (one: Labelled, chunk: TracedChunk) =>
  one.document === chunk.document &&
  (one.start === null || one.end === null || (one.start < chunk.end && one.end > chunk.start));

/** The best grade of what stands in a chunk; 0 where somebody looked and found no answer, null where nobody did. */
export function gradeOf(asked: Asked, chunk: TracedChunk): number | null {
  const grades = asked.spans.filter((span) => overlaps(span, chunk)).map((span) => span.grade);
  if (grades.length) return Math.max(...grades);
  return asked.no_answers.some((one) => overlaps(one, chunk)) ? 0 : null;
}

export function Judged({ chunk }: { chunk: TracedChunk }) {
  const asked = useContext(PinnedContext);
  const grade = asked && gradeOf(asked, chunk);
  if (grade === null) return null;
  return (
    <span className={grade ? "judged" : "judged none"}>
      {" "}
      {grade ? `grade ${grade}` : "judged: no answer"}
    </span>
  );
}
