// Sparse: what the sparse branch ranked, and term by term why; and what its index is made of.
import { useState } from "react";
import { Table } from "react-bootstrap";
import type { Asked } from "../../api/client";
import { Segments } from "../../shell/Segments";
import { Empty, Shown } from "../../shell/states";
import { bytes, milliseconds } from "../../text/numbers";
import { useFamily, type Setting } from "../../api/catalogue";
import { choiceTitle, kindOf } from "../../recipe/kinds";
import { useBranchId } from "../shared/branch";
import { BranchChoice } from "../shared/BranchChoice";
import { Figures, StageHead } from "../shared/Figures";
import { FirstRanks, useAmongFirst } from "../shared/FirstRanks";
import { firstChoice, HitList } from "../shared/HitList";
import { PassageCard } from "../shared/Passage";
import { WhyNotChunk } from "../shared/WhyNot";
import { chunksByNumber, stageOfBranch } from "../shared/trace";
import { AddedToChunk } from "./AddedToChunk";
import { useExplained, useSparseStage, type SparseFacts } from "./api";
import { TermTable } from "./TermTable";
import { Playground } from "./Playground";

/** So many of the first chunks, and of the relevant ones that were not found, are explained. */
const EXPLAINED = 20;

export function Sparse() {
  const branch = useBranchId("sparse");
  const stage = useSparseStage(branch);
  const [side, setSide] = useState<"index" | "playground">("index");
  if (branch === null) return <NotHere />;
  return (
    <>
      <StageHead title="Sparse branch">
        It finds exact things, words and codes; a chunk without any term of the question is never found.
      </StageHead>
      <div className="body">
        <div className="choices">
          <Segments
            options={[
              ["index", "Index"],
              ["playground", "Analysis playground"],
            ]}
            value={side}
            choose={setSide}
          />
          <BranchChoice family="sparse" />
        </div>
        {side === "playground" ? (
          <Playground key={branch} branch={branch} />
        ) : (
          <Shown query={stage} what="Reading the index">
            {(data) =>
              data.facts ? <Index facts={data.facts} branch={branch} /> : <NoTerms branch={branch} />
            }
          </Shown>
        )}
      </div>
    </>
  );
}

function Index({ facts, branch }: { facts: SparseFacts; branch: string }) {
  const among = useAmongFirst(branch);
  const weightings = kindOf(useFamily("branches"), "bm25")?.settings ?? [];
  const variant = choiceTitle(weightings as Setting[], "variant", facts.variant);
  return (
    <>
      <Figures
        rows={[
          [facts.terms.toLocaleString(), "terms"],
          [facts.entries.toLocaleString(), "postings"],
          [
            bytes(facts.bytes),
            `on disk, ${(facts.bytes / Math.max(facts.entries, 1)).toFixed(1)} bytes a posting`,
          ],
          [facts.mean.toFixed(0), "terms a chunk, mean"],
          [among, "answers among the first 5"],
        ]}
      />
      <p className="small-text mb-2">
        <b>{facts.adds ? "BM25 over more terms" : facts.fields.length ? "BM25F over fields" : variant}</b>,{" "}
        {facts.measure}; larger is better.{" "}
        {facts.adds && "Chunks and questions are given words of the corpus that mean much the same. "}
        {facts.fields.map((field) => `${field.name} counts ${field.weight} times`).join(", ")}
        {facts.segments > 1 && ` The index has ${facts.segments} segments.`}
      </p>
      <div className="split" style={{ gridTemplateColumns: "1.4fr 1fr 1fr", height: "auto" }}>
        <FirstRanks branch={branch} tone="var(--sparse)" />
        <Terms title="Commonest terms" rows={facts.commonest} />
        <Terms title="Commonest codes, kept whole" rows={facts.codes} />
      </div>
    </>
  );
}

/** A kind of branch that tells no terms: what every branch has. */
function NoTerms({ branch }: { branch: string }) {
  return (
    <>
      <p className="small-text soft">
        The kind of branch “{branch}” says nothing of its index; pin a question to see what it ranks.
      </p>
      <FirstRanks branch={branch} tone="var(--sparse)" />
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
  const branch = useBranchId("sparse");
  const stage = stageOfBranch(asked, branch);
  const chunks = chunksByNumber(asked);
  const [chosen, setChosen] = useState(() => firstChoice(stage, chunks));
  const missed = asked.chunks
    .filter((chunk) => chunk.relevant && !stage?.chunks.includes(chunk.number))
    .map((chunk) => chunk.number);
  const shown = [...(stage?.chunks.slice(0, EXPLAINED) ?? []), ...missed.slice(0, EXPLAINED)];
  const told = useExplained(asked, stage ? shown : [], branch ?? "");
  const facts = useSparseStage(branch).data?.facts;
  const adds = facts?.adds;
  if (!stage) return <NotHere />;
  const explained = told.data?.find((row) => row.chunk === chosen);
  if (stage.chunks.length === 0)
    return (
      <Empty title="Nothing found">
        No chunk holds any term of this question. The dense branch has to find it.
      </Empty>
    );
  return (
    <>
      <div className="choices">
        <BranchChoice family="sparse" />
      </div>
      <div className="split two">
        <div>
          <h3>
            {stage.chunks.length} chunks share a term with the question{adds && ", said or added"}
            {facts?.lends && ", or look like some that do"}{" "}
            <span className="soft fw-normal num">
              {milliseconds(stage.seconds)}, {stage.measure}; larger is better
            </span>
          </h3>
          <HitList stage={stage} chunks={chunks} chosen={chosen} choose={setChosen} tone="var(--sparse)" />
          {missed.length > 0 && (
            <div className="notice mt-2" style={{ "--tone": "var(--lost)" } as React.CSSProperties}>
              Relevant and not found:{" "}
              {missed.map((chunk) => (
                <button
                  key={chunk}
                  type="button"
                  className="btn btn-link btn-sm p-0 me-2"
                  onClick={() => setChosen(chunk)}
                >
                  chunk {chunk}
                </button>
              ))}
            </div>
          )}
        </div>
        <div>
          <h3>Why it is there</h3>
          <Shown query={told} what="Looking at the terms">
            {() => explained && <TermTable explained={explained} />}
          </Shown>
          {adds && <AddedToChunk key={chosen} chunk={chosen} branch={branch ?? ""} />}
          <PassageCard
            chunk={chosen === null ? undefined : chunks.get(chosen)}
            show="terms"
            terms={explained?.found}
          >
            {chosen !== null && (
              <div className="small-text mt-1">
                <WhyNotChunk asked={asked} chunk={chosen} />
              </div>
            )}
          </PassageCard>
        </div>
      </div>
    </>
  );
}
