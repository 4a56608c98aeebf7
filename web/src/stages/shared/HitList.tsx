// A ranked list of chunks, best first: rank, place, score as figure and bar.
import type { StageTrace, TracedChunk } from "../../api/client";
import { Judged } from "../../labels/Judged";
import { score } from "../../text/numbers";
import { place } from "./trace";

/** Why a hit does not go on, as traces say it. */
const FLOOR = "under the floor";

export function HitList({
  stage,
  chunks,
  chosen,
  choose,
  tone,
  limit = 20,
  note,
}: {
  stage: StageTrace;
  chunks: Map<number, TracedChunk>;
  chosen: number | null;
  choose: (chunk: number) => void;
  tone: string;
  limit?: number;
  note?: (row: number) => string;
}) {
  const values = stage.probability ?? stage.scores;
  const best = Math.max(...values);
  // Some measures end at 0 from below: then the bars show the way from the worst to the best.
  const floor = best > 0 ? 0 : Math.min(...values);
  const rows = stage.chunks.slice(0, limit);
  return (
    <div style={{ "--tone": tone } as React.CSSProperties}>
      {rows.map((number, row) => {
        const chunk = chunks.get(number);
        const value = values[row] ?? 0;
        return (
          <button
            type="button"
            key={number}
            className={`hit ${chunk?.relevant ? "relevant" : ""} ${stage.kept[row] ? "" : "out"}`}
            aria-pressed={chosen === number}
            data-chunk={number}
            data-place={chunk && `${chunk.document}:${chunk.start}:${chunk.end}`}
            onClick={() => choose(number)}
          >
            <span className="rank num">{row + 1}</span>
            <span className="where">
              {place(chunk)}
              {chunk && <Judged chunk={chunk} />}
            </span>
            <span className="num small-text">
              <span
                className="bar"
                style={{ width: `${Math.max(0, (46 * (value - floor)) / Math.max(best - floor, 1e-9))}px` }}
              />{" "}
              {score(value)}
            </span>
            <span className="start">
              {stage.reasons[row]?.startsWith(FLOOR) && <b className="lost">{FLOOR}: </b>}
              {note?.(row) || chunk?.text.replace(/\s+/g, " ").slice(0, 110)}
            </span>
          </button>
        );
      })}
      {stage.chunks.length > limit && (
        <div className="small-text soft p-2">
          and {stage.chunks.length - limit} more, down to a score of {score(values[values.length - 1] ?? 0)}
        </div>
      )}
    </div>
  );
}

/** The chunk that a view opens with: the first relevant one, else the first. */
export function firstChoice(stage: StageTrace | undefined, chunks: Map<number, TracedChunk>): number | null {
  if (!stage) return null;
  return stage.chunks.find((number) => chunks.get(number)?.relevant) ?? stage.chunks[0] ?? null;
}
