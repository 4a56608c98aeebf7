// A way of cutting in figures, beside another one where two are compared.
import type { ChunkFigures } from "./api";
import { percent } from "../../text/numbers";

type Row = [label: string, of: (figures: ChunkFigures) => string, worse?: (figures: ChunkFigures) => number];

const ROWS: Row[] = [
  ["chunks", (f) => f.chunks.toLocaleString()],
  ["tokens, median", (f) => f.median.toFixed(0)],
  ["tokens, 95th percentile", (f) => f.p95.toFixed(0)],
  ["text stored twice", (f) => percent(f.overlap), (f) => f.overlap],
  [
    "answers whole",
    (f) => `${f.spans.intact} of ${f.spans.intact + f.spans.cut + f.spans.spread + f.spans.outside}`,
    (f) => -f.spans.intact,
  ],
  ["answers cut", (f) => String(f.spans.cut), (f) => f.spans.cut],
  ["answers spread", (f) => String(f.spans.spread), (f) => f.spans.spread],
  ["cut in mid-sentence", (f) => String(f.inside), (f) => f.inside],
  ["tokens never read", (f) => f.unread.toLocaleString(), (f) => f.unread],
];

export function CutFigures({ one, other }: { one: ChunkFigures; other?: ChunkFigures }) {
  // A cut answer has half of it or more in one chunk; a spread one has not.
  return (
    <table className="cut-figures num">
      {other && (
        <thead>
          <tr>
            <th>
              <span className="visually-hidden">figure</span>
            </th>
            <th>in force</th>
            <th>this</th>
          </tr>
        </thead>
      )}
      <tbody>
        {ROWS.map(([label, of, worse]) => {
          const change = other && worse ? worse(one) - worse(other) : 0;
          return (
            <tr key={label}>
              <td>{label}</td>
              {other && <td>{of(other)}</td>}
              <td className={change > 0 ? "lost" : change < 0 ? "gain" : ""}>
                {of(one)}
                {change !== 0 && <span className="visually-hidden">{change > 0 ? " worse" : " better"}</span>}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
