// Term by term, what adds up to a chunk's score; what was added to the question or to the chunk is told from what is said.
import { Table } from "react-bootstrap";
import type { Explained } from "../../api/client";
import { useBeside, useSay } from "../../before/beside";
import { score } from "../../text/numbers";

type Term = Explained["terms"][number];

const isAdded = (term: Term) => term.added_to_question || term.added_to_chunk;

export function TermTable({ explained }: { explained: Explained }) {
  const { without } = useBeside();
  const say = useSay();
  const beside = explained.length + explained.near + explained.lent;
  const total = explained.terms.reduce((sum, term) => sum + term.share, beside);
  const most = Math.max(...explained.terms.map((term) => term.share), 1e-9);
  // A question may be given many words; those that this chunk has nothing of are counted alone.
  const shown = explained.terms.filter((term) => !term.added_to_question || term.share > 0);
  const idle = explained.terms.length - shown.length;
  if (explained.terms.length === 0)
    return <p className="soft small-text">The question holds nothing but stop words.</p>;
  return (
    <>
      <Table
        size="sm"
        className="small-text num"
        style={{ "--tone": "var(--sparse)" } as React.CSSProperties}
      >
        <thead>
          <tr>
            <th>Term</th>
            <th className="text-end">in chunks</th>
            <th className="text-end">idf</th>
            <th className="text-end">here</th>
            <th>adds</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((term) => (
            <tr key={term.term} className={term.share ? "" : "soft"}>
              <td>
                <span className={term.added_to_question ? "mono added" : "mono"}>{term.term}</span>
                {term.in_question !== 1 && <span className="soft"> × {short(term.in_question)}</span>}
              </td>
              <td className="text-end">{term.chunks || "none"}</td>
              <td className="text-end">{term.chunks ? term.idf.toFixed(2) : ""}</td>
              <td className={term.added_to_chunk ? "text-end added" : "text-end"}>{here(term)}</td>
              <td>
                <span
                  className={isAdded(term) ? "bar added" : "bar"}
                  style={{ width: `${(70 * term.share) / most}px` }}
                />{" "}
                {term.share ? score(term.share) : "nothing"}
                {isAdded(term) && term.share > 0 && (
                  <button
                    className="leave-out"
                    aria-label={`Search without adding ${term.term}`}
                    title={`Search without adding ${term.term}`}
                    onClick={() => say({ without: [...without, term.term] })}
                  >
                    ×
                  </button>
                )}
              </td>
            </tr>
          ))}
          {explained.near !== 0 && (
            <tr>
              <td colSpan={4}>terms that stand within five words of each other</td>
              <td>{score(explained.near)}</td>
            </tr>
          )}
          {explained.lent !== 0 && (
            <tr>
              <td colSpan={4}>lent by what is said of pictures that look like one here</td>
              <td>{score(explained.lent)}</td>
            </tr>
          )}
          {explained.length !== 0 && (
            <tr>
              <td colSpan={4}>length of the chunk</td>
              <td>{score(explained.length)}</td>
            </tr>
          )}
          <tr>
            <th colSpan={4}>Score</th>
            <th>{score(total)}</th>
          </tr>
        </tbody>
      </Table>
      {explained.terms.some(isAdded) && (
        <p className="soft small-text">
          Aslant is what nobody said: words added to the question, and parts of an occurrence added to the
          chunk; × searches without.{" "}
          {idle > 0 && `${idle} more ${idle === 1 ? "word was" : "words were"} added to the `}
          {idle > 0 && "question; this chunk has none of them."}
        </p>
      )}
    </>
  );
}

/** How often the chunk holds it; a part of 1 where it was added. */
const here = (term: Term) => (term.in_chunk ? short(term.in_chunk) : "–");

const short = (value: number) => String(Number(value.toFixed(2))).replace(/^0\./, ".");
