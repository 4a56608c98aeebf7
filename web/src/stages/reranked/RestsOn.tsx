// A passage with its sentences shaded by how much the joint score drops without each.
import { useRestsOn } from "./api";
import { Shown } from "../../shell/states";
import { codePoints, pieces, type Range } from "../../text/codepoints";
import { score } from "../../text/numbers";

export function RestsOn({
  scorer,
  question,
  passage,
  window,
  around = [],
  answers = [],
}: {
  scorer: string;
  question: string;
  passage: string | null;
  window: number[] | null;
  /** Title and headings that were read before it. */
  around?: string[];
  answers?: Range[];
}) {
  const whole = codePoints(passage ?? "");
  const [start, end] = window ?? [0, whole.length];
  // What was read is what is explained; the rest of the passage stands around it.
  const points = whole.slice(start, end);
  const drops = useRestsOn(scorer, question, passage === null ? null : points.join(""), around);
  const marked = answers
    .map((range) => ({
      start: Math.max(range.start - start!, 0),
      end: Math.min(range.end, end!) - start!,
      kind: "answer",
    }))
    .filter((range) => range.end > range.start);
  const most = Math.max(...(drops.data ?? []).map(({ drop }) => Math.abs(drop)), 1e-6);
  return (
    <div>
      <h3>
        What the score rests on{" "}
        <span className="soft fw-normal">
          darker: it drops more without the sentence{answers.length > 0 && "; underlined: the answer"}
        </span>
      </h3>
      <Shown query={drops} what="Scoring without each sentence">
        {(data) => (
          <div className="card-passage">
            <div className="passage">
              {start! > 0 && <span className="unread">{whole.slice(0, start).join("")}</span>}
              {data.map((row) => (
                <mark
                  key={row.start}
                  className={row.drop >= 0 ? "rests" : "rests against"}
                  data-drop={row.drop.toFixed(3)}
                  style={{ "--strength": (0.55 * Math.abs(row.drop)) / most } as React.CSSProperties}
                  title={
                    row.drop >= 0
                      ? `${score(row.drop)} less without it`
                      : `${score(-row.drop)} more without it`
                  }
                >
                  {pieces(points, row.start, row.end, marked).map((piece) =>
                    piece.kinds.length ? <u key={piece.start}>{piece.text}</u> : piece.text,
                  )}
                </mark>
              ))}
              {end! < whole.length && <span className="unread">{whole.slice(end).join("")}</span>}
            </div>
            <div className="small-text soft mt-2 num">
              {data.length} {data.length === 1 ? "sentence" : "sentences"}; the largest change is{" "}
              {score(most)} of the joint score
              {window && "; what stands pale was not in the window that scored best"}
            </div>
          </div>
        )}
      </Shown>
    </div>
  );
}
