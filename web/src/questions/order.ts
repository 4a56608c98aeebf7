// Questions that were not delivered come first, by the stage that lost them.
import type { QuestionRow } from "../api/client";
import { GOOD, STAGES, stageOfCause } from "../shell/pin";

export const isFailing = (row: QuestionRow) => row.cause !== null && !GOOD.includes(row.cause);

/** Without a label, and not marked as one that nothing answers. */
export const isOpen = (row: QuestionRow) => !row.answerable && !row.unanswerable;

function weight(row: QuestionRow): number {
  if (isOpen(row)) return 40;
  if (row.cause === null) return 50;
  if (isFailing(row)) return row.answerable ? STAGES.indexOf(stageOfCause(row.cause)) : 20;
  return 100 + (row.ranks.context ?? 0);
}

export function inOrder(rows: QuestionRow[]): QuestionRow[] {
  return [...rows].sort((a, b) => weight(a) - weight(b));
}

/** Where a question ended, in words. */
export function ending(row: QuestionRow): string {
  if (row.lost) return "its labels lost their place";
  if (isOpen(row)) return "no label yet";
  if (row.cause === null) return "not measured yet";
  if (row.cause === "delivered" && row.ranks.context) return `delivered at ${row.ranks.context}`;
  if (row.cause === "wrongly filled") return "no answer exists, yet passages were packed";
  return row.cause;
}
