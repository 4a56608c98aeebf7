// Reading a trace: stages by kind, chunks by number.
import type { Asked, StageTrace, TracedChunk } from "../../api/client";
import type { StageName } from "../../shell/pin";

/** The trace of a stage of the line; branches are told apart by what their score is. */
export function stageOfKind(asked: Asked, stage: StageName): StageTrace | undefined {
  if (stage === "sparse" || stage === "dense") {
    return asked.trace.stages.find(
      (row) => row.kind === "branch" && row.measure.startsWith("BM25") === (stage === "sparse"),
    );
  }
  return asked.trace.stages.find((row) => row.stage === stage);
}

export const kindOf = (stage: StageTrace): StageName =>
  stage.kind === "branch"
    ? stage.measure.startsWith("BM25")
      ? "sparse"
      : "dense"
    : (stage.kind as StageName);

export function chunksByNumber(asked: Asked): Map<number, TracedChunk> {
  return new Map(asked.chunks.map((chunk) => [chunk.number, chunk]));
}

/** Where a chunk stands, in few words. */
export function place(chunk: TracedChunk | undefined): string {
  if (!chunk) return "";
  const last = chunk.section[chunk.section.length - 1];
  return last && chunk.section.length > 1 ? `${chunk.title} › ${last}` : chunk.title;
}
