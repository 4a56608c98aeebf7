// Dense: what the encoder placed nearest, however far away that is; and what its index is made of.
import { useFamily } from "../../api/catalogue";
import { useState } from "react";
import type { Asked } from "../../api/client";
import { useDenseStage, type DenseFacts, type DenseStage } from "./api";
import { Segments } from "../../shell/Segments";
import { usePin } from "../../shell/pin";
import { Empty, Shown } from "../../shell/states";
import { summaryOf, titleOf } from "../../recipe/kinds";
import { bytes, duration, milliseconds, score } from "../../text/numbers";
import { Bars } from "../shared/Bars";
import { useBranchId } from "../shared/branch";
import { BranchChoice } from "../shared/BranchChoice";
import { Figures, StageHead } from "../shared/Figures";
import { FirstRanks, useAmongFirst } from "../shared/FirstRanks";
import { firstChoice, HitList } from "../shared/HitList";
import { PassageCard } from "../shared/Passage";
import { WhyNotChunk } from "../shared/WhyNot";
import { TokenMatches } from "../shared/TokenMatches";
import { chunksByNumber, stageOfBranch } from "../shared/trace";
import { ClosePairs } from "./ClosePairs";
import type { Structure } from "./structures";
import { PatchedPages } from "./PatchedPages";
import { Survey } from "./Survey";
import { VectorMap } from "./VectorMap";

type Side = "index" | "survey" | "map" | "pairs";
const SIDES: [Side, string][] = [
  ["index", "Index"],
  ["survey", "Speed and exactness"],
  ["map", "Map and neighbours"],
  ["pairs", "Near-identical chunks"],
];

export function Dense() {
  const branch = useBranchId("dense");
  const stage = useDenseStage(branch);
  const [side, setSide] = useState<Side>("index");
  if (branch === null) return <NotHere />;
  return (
    <>
      <StageHead title="Dense branch">
        It finds intent and paraphrase, and always returns its full depth, however bad.
      </StageHead>
      <div className="body">
        <div className="choices">
          {stage.data && <Segments options={sidesOf(stage.data)} value={side} choose={setSide} />}
          <BranchChoice family="dense" />
        </div>
        <Shown query={stage} what="Reading the index">
          {(data) =>
            side === "survey" && data.surveys ? (
              <Survey key={branch} branch={branch} stage={data} />
            ) : data.facts === null ? (
              <OfFigures data={data} branch={branch} />
            ) : side === "index" || side === "survey" ? (
              <Index facts={data.facts} branch={branch} />
            ) : side === "map" ? (
              <VectorMap key={branch} question={null} text={null} branch={branch} />
            ) : (
              <ClosePairs branch={branch} />
            )
          }
        </Shown>
      </div>
    </>
  );
}

function Index({ facts, branch }: { facts: DenseFacts; branch: string }) {
  const among = useAmongFirst(branch);
  const kinds = useFamily("structures");
  const structure = facts.structure as Structure;
  return (
    <>
      <Figures
        rows={[
          [facts.chunks.toLocaleString(), `chunks, ${facts.dimension} numbers each`],
          [bytes(facts.vector_bytes), "of vectors, mapped from disk"],
          [facts.structure_bytes ? bytes(facts.structure_bytes) : "none", "memory beside them"],
          [facts.seconds ? duration(facts.seconds) : "–", "built in"],
          [among, "answers among the first 5"],
        ]}
      />
      {facts.warning && (
        <div className="notice mb-2" style={{ "--tone": "var(--lost)" } as React.CSSProperties} role="alert">
          {facts.warning}
        </div>
      )}
      <p className="small-text mb-2">
        <b>{facts.title}</b>, reads{" "}
        {facts.max_tokens < 1e6 ? `${facts.max_tokens.toLocaleString()} tokens` : "every word"} of a chunk.
        Score: {facts.measure}; larger is better. Search: {titleOf(kinds, structure.kind)},{" "}
        {summaryOf(kinds, structure.kind, structure)}
        {facts.segments > 1 && `, over ${facts.segments} segments`}.
      </p>
      <div className="split two" style={{ height: "auto" }}>
        <FirstRanks branch={branch} tone="var(--dense)" />
        <div>
          <h3>How close chunks are to their nearest neighbour</h3>
          <Bars
            tone="var(--dense)"
            data={facts.nearest.map((share, place) => ({
              name: `.${place}`,
              value: Math.round(share * 1000) / 10,
            }))}
            x="cosine to the nearest other chunk, from"
            y="% of chunks"
          />
        </div>
      </div>
    </>
  );
}

/** Words as a sentence of their own. */
const sentence = (words: string) => `${words.charAt(0).toUpperCase()}${words.slice(1)}.`;

/** What there is to see of a branch: all of it where a chunk has a vector. */
const sidesOf = (data: DenseStage): [Side, string][] =>
  data.facts ? SIDES : SIDES.filter(([side]) => side === "index" || (side === "survey" && data.surveys));

/** A kind of branch without a vector a chunk: what it says of its index in figures, and what every branch has. */
function OfFigures({ data, branch }: { data: DenseStage; branch: string }) {
  const among = useAmongFirst(branch);
  const kinds = useFamily("branches");
  return (
    <>
      <Figures
        rows={[
          ...data.figures.map(({ value, unit, what }): [string, string] => [
            unit === "bytes" ? bytes(value) : value.toLocaleString(),
            what,
          ]),
          [among, "answers among the first 5"],
        ]}
      />
      <p className="small-text mb-2">
        <b>{sentence(titleOf(kinds, String((data.settings as { kind?: string }).kind)))}</b>{" "}
        {data.measure && <>Score: {data.measure}; larger is better. </>}
        {data.figures.length === 0 && "It says nothing of its index; pin a question to see what it ranks."}
      </p>
      <FirstRanks branch={branch} tone="var(--dense)" />
    </>
  );
}

function NotHere() {
  return (
    <Empty title="This recipe has no dense branch">
      Add one in the recipe, or put another recipe in force.
    </Empty>
  );
}

export function DensePinned({ asked }: { asked: Asked }) {
  const [side, setSide] = useState<"hits" | "map">("hits");
  const pin = usePin();
  const branch = useBranchId("dense");
  const mapped = useDenseStage(branch).data?.facts !== null;
  return (
    <>
      <div className="choices">
        {mapped && (
          <Segments
            options={[
              ["hits", "Nearest chunks"],
              ["map", "Map"],
            ]}
            value={side}
            choose={setSide}
          />
        )}
        <BranchChoice family="dense" />
      </div>
      {side === "hits" || !mapped ? (
        <Hits asked={asked} branch={branch} />
      ) : (
        <VectorMap question={pin.question} text={pin.text} branch={branch} />
      )}
    </>
  );
}

function Hits({ asked, branch }: { asked: Asked; branch: string | null }) {
  const stage = stageOfBranch(asked, branch);
  const chunks = chunksByNumber(asked);
  const [chosen, setChosen] = useState(() => firstChoice(stage, chunks));
  const about = useDenseStage(branch).data;
  if (!stage) return <NotHere />;
  const why = chosen !== null && (
    <div className="small-text mt-1">
      <WhyNotChunk asked={asked} chunk={chosen} />
    </div>
  );
  const first = stage.scores[0] ?? 0;
  const last = stage.scores[stage.scores.length - 1] ?? 0;
  return (
    <div className="split two">
      <div>
        <h3>
          Nearest {stage.chunks.length} chunks{" "}
          <span className="soft fw-normal num">
            {milliseconds((asked.trace.seconds["encode question"] ?? 0) + stage.seconds)}, {stage.measure};
            larger is better
          </span>
        </h3>
        <HitList stage={stage} chunks={chunks} chosen={chosen} choose={setChosen} tone="var(--dense)" />
      </div>
      <div>
        {about?.by_patch ? (
          <PatchedPages asked={asked} chosen={chosen} branch={branch}>
            {why}
          </PatchedPages>
        ) : about?.by_token ? (
          <TokenMatches asked={asked} chosen={chosen} tone="var(--dense)" branch={branch}>
            {why}
          </TokenMatches>
        ) : (
          <>
            <h3>The passage</h3>
            <PassageCard chunk={chosen === null ? undefined : chunks.get(chosen)}>{why}</PassageCard>
          </>
        )}
        <p className="small-text soft mt-2 num">
          From the first to the last of the {stage.chunks.length} the score falls from {score(first)} to{" "}
          {score(last)}. A list is always returned, so a low first score is the only sign that nothing fits.
        </p>
      </div>
    </div>
  );
}
