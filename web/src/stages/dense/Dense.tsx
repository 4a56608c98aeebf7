// Dense: what the encoder placed nearest, however far away that is.
import { useState } from "react";
import type { Asked } from "../../api/client";
import { useIndexStage } from "../../api/queries";
import { Empty, Shown } from "../../shell/states";
import { bytes, milliseconds, score } from "../../text/numbers";
import { FirstRanks, useAmongFirst } from "../shared/FirstRanks";
import { Bars } from "../shared/Bars";
import { Figures, StageHead } from "../shared/Figures";
import { HitList, firstChoice } from "../shared/HitList";
import { PassageCard } from "../shared/Passage";
import { chunksByNumber, stageOfKind } from "../shared/trace";
import { useBranchId } from "../shared/branch";

export function Dense() {
  const stage = useIndexStage();
  const branch = useBranchId("dense");
  const among = useAmongFirst(branch ?? "");
  if (branch === null) return <NotHere />;
  return (
    <>
      <StageHead title="Dense branch">
        Cosine of unit vectors, compared exactly. It finds intent and paraphrase, and always returns its full
        depth, however bad.
      </StageHead>
      <div className="body">
        <Shown query={stage} what="Reading the index">
          {(data) => {
            const vectors = data.indexes.find((index) => index.kind === "vectors");
            const close = data.nearest.slice(9).reduce((sum, share) => sum + share, 0);
            return (
              <>
                <Figures
                  rows={[
                    [String((vectors?.meta as { dimension?: number })?.dimension ?? 0), "dimensions"],
                    [bytes(vectors?.bytes ?? 0), "of float32 vectors on disk"],
                    [String(data.encoder_tokens ?? 0), "tokens read of a chunk"],
                    [among, "answers among the first 5"],
                  ]}
                />
                <div className="split two" style={{ height: "auto" }}>
                  <FirstRanks branch={branch} tone="var(--dense)" />
                  <div>
                    <h3>How close chunks are to their nearest neighbour</h3>
                    <Bars
                      tone="var(--dense)"
                      data={data.nearest.map((share, place) => ({
                        name: `.${place}`,
                        value: Math.round(share * 1000) / 10,
                      }))}
                      x="cosine to the nearest other chunk, from"
                      y="% of chunks"
                    />
                  </div>
                </div>
                <p className="small-text soft mt-2">
                  Encoder: {data.encoder}.{" "}
                  {close > 0
                    ? `${(100 * close).toFixed(1)} % of the chunks have a neighbour at .9 or closer: near-copies that crowd each other out.`
                    : "No chunk has a neighbour at .9 or closer."}
                </p>
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
    <Empty title="This recipe has no dense branch">
      Add one in the recipe, or put another recipe in force.
    </Empty>
  );
}

export function DensePinned({ asked }: { asked: Asked }) {
  const stage = stageOfKind(asked, "dense");
  const chunks = chunksByNumber(asked);
  const [chosen, setChosen] = useState(() => firstChoice(stage, chunks));
  if (!stage) return <NotHere />;
  const first = stage.scores[0] ?? 0;
  const last = stage.scores[stage.scores.length - 1] ?? 0;
  return (
    <div className="split two">
      <div>
        <h3>
          Nearest {stage.chunks.length} chunks{" "}
          <span className="soft fw-normal num">
            {milliseconds((asked.trace.seconds["encode question"] ?? 0) + stage.seconds)}, cosine, larger is
            better
          </span>
        </h3>
        <HitList stage={stage} chunks={chunks} chosen={chosen} choose={setChosen} tone="var(--dense)" />
      </div>
      <div>
        <h3>The passage</h3>
        <PassageCard chunk={chosen === null ? undefined : chunks.get(chosen)} />
        <p className="small-text soft mt-2 num">
          From the first to the last of the {stage.chunks.length} the cosine falls from {score(first)} to{" "}
          {score(last)}. A list is always returned, so a low first cosine is the only sign that nothing fits.
        </p>
      </div>
    </div>
  );
}
