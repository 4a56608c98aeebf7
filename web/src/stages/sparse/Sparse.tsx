// Sparse: what BM25 ranked, and term by term why.
import { useState } from "react";
import { Table } from "react-bootstrap";
import type { Asked, Explained } from "../../api/client";
import { useIndexStage } from "../../api/queries";
import { Empty, Shown } from "../../shell/states";
import { bytes, milliseconds, score } from "../../text/numbers";
import { FirstRanks, useAmongFirst } from "../shared/FirstRanks";
import { Figures, StageHead } from "../shared/Figures";
import { HitList, firstChoice } from "../shared/HitList";
import { PassageCard } from "../shared/Passage";
import { chunksByNumber, stageOfKind } from "../shared/trace";
import { useBranchId } from "../shared/branch";

export function Sparse() {
  const stage = useIndexStage();
  const branch = useBranchId("sparse");
  const among = useAmongFirst(branch ?? "");
  if (branch === null) return <NotHere />;
  return (
    <>
      <StageHead title="Sparse branch">
        BM25 over words and codes. It finds exact things; a chunk without any word of the question is never
        found.
      </StageHead>
      <div className="body">
        <Shown query={stage} what="Reading the index">
          {(data) => {
            const postings = data.indexes.find((index) => index.kind === "postings");
            return (
              <>
                <Figures
                  rows={[
                    [(data.terms ?? 0).toLocaleString(), "terms"],
                    [
                      Number((postings?.meta as { postings?: number })?.postings ?? 0).toLocaleString(),
                      "postings",
                    ],
                    [bytes(postings?.bytes ?? 0), "on disk"],
                    [among, "answers among the first 5"],
                  ]}
                />
                <div className="split" style={{ gridTemplateColumns: "1.4fr 1fr 1fr", height: "auto" }}>
                  <FirstRanks branch={branch} tone="var(--sparse)" />
                  <Terms title="Commonest terms" rows={data.commonest} />
                  <Terms title="Commonest codes, kept whole" rows={data.codes} />
                </div>
              </>
            );
          }}
        </Shown>
      </div>
    </>
  );
}

function NotHere() {
  return (
    <Empty title="This recipe has no sparse branch">
      Add one in the recipe, or put another recipe in force.
    </Empty>
  );
}

function Terms({ title, rows }: { title: string; rows: { term: string; chunks: number; idf: number }[] }) {
  return (
    <div>
      <h3>{title}</h3>
      <Table size="sm" className="small-text num">
        <thead>
          <tr>
            <th>Term</th>
            <th className="text-end">Chunks</th>
            <th className="text-end" title="inverse document frequency: larger counts for more">
              idf
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.term}>
              <td className="mono">{row.term}</td>
              <td className="text-end">{row.chunks}</td>
              <td className="text-end">{row.idf.toFixed(2)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}

export function SparsePinned({ asked }: { asked: Asked }) {
  const stage = stageOfKind(asked, "sparse");
  const chunks = chunksByNumber(asked);
  const [chosen, setChosen] = useState(() => firstChoice(stage, chunks));
  if (!stage) return <NotHere />;
  const explained = asked.explained.find((row) => row.chunk === chosen);
  const missed = asked.explained.filter(
    (row) => chunks.get(row.chunk)?.relevant && !stage.chunks.includes(row.chunk),
  );
  if (stage.chunks.length === 0)
    return (
      <Empty title="Nothing found">
        No chunk holds any term of this question. The dense branch has to find it.
      </Empty>
    );
  return (
    <div className="split two">
      <div>
        <h3>
          {stage.chunks.length} chunks share a term with the question{" "}
          <span className="soft fw-normal num">
            {milliseconds(stage.seconds)}, BM25 score, larger is better
          </span>
        </h3>
        <HitList stage={stage} chunks={chunks} chosen={chosen} choose={setChosen} tone="var(--sparse)" />
        {missed.length > 0 && (
          <div className="notice mt-2" style={{ "--tone": "var(--lost)" } as React.CSSProperties}>
            Relevant and not found:{" "}
            {missed.map((row) => (
              <button
                key={row.chunk}
                type="button"
                className="btn btn-link btn-sm p-0 me-2"
                onClick={() => setChosen(row.chunk)}
              >
                chunk {row.chunk}
              </button>
            ))}
          </div>
        )}
      </div>
      <div>
        <h3>Why it is there</h3>
        {explained && <TermTable explained={explained} />}
        <PassageCard chunk={chosen === null ? undefined : chunks.get(chosen)} show="terms" />
      </div>
    </div>
  );
}

function TermTable({ explained }: { explained: Explained }) {
  const total = explained.terms.reduce((sum, term) => sum + term.share, 0);
  const most = Math.max(...explained.terms.map((term) => term.share), 1e-9);
  if (explained.terms.length === 0)
    return <p className="soft small-text">The question holds nothing but stop words.</p>;
  return (
    <Table size="sm" className="small-text num" style={{ "--tone": "var(--sparse)" } as React.CSSProperties}>
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
        {explained.terms.map((term) => (
          <tr key={term.term} className={term.share ? "" : "soft"}>
            <td className="mono">{term.term}</td>
            <td className="text-end">{term.chunks || "none"}</td>
            <td className="text-end">{term.chunks ? term.idf.toFixed(2) : ""}</td>
            <td className="text-end">{term.in_chunk || "–"}</td>
            <td>
              <span className="bar" style={{ width: `${(70 * term.share) / most}px` }} />{" "}
              {term.share ? score(term.share) : "nothing"}
            </td>
          </tr>
        ))}
        <tr>
          <th colSpan={4}>Score</th>
          <th>{score(total)}</th>
        </tr>
      </tbody>
    </Table>
  );
}
