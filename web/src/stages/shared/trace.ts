// Reading a trace: stages by kind, chunks by number.
import type { Asked, StageTrace, TracedChunk } from "../../api/client";
import type { StageName } from "../../shell/pin";

/** What a stage of a trace is; a branch may be called anything. */
export const kindOf = (asked: Asked, stage: StageTrace): StageName => asked.kinds[stage.stage] as StageName;

/** The trace of a stage of the line. */
export function stageOfKind(asked: Asked, stage: StageName): StageTrace | undefined {
  return asked.trace.stages.find((row) => kindOf(asked, row) === stage);
}

/** The trace of a branch, by its id. */
export function stageOfBranch(asked: Asked, branch: string | null): StageTrace | undefined {
  return asked.trace.stages.find((row) => row.kind === "branch" && row.stage === branch);
}

export function chunksByNumber(asked: Asked): Map<number, TracedChunk> {
  return new Map(asked.chunks.map((chunk) => [chunk.number, chunk]));
}

/** Where a chunk stands, in few words. */
export function place(chunk: TracedChunk | undefined): string {
  if (!chunk) return "";
  const last = chunk.section[chunk.section.length - 1];
  return last && chunk.section.length > 1 ? `${chunk.title} › ${last}` : chunk.title;
}
