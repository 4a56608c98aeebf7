// Where a stage and the pin cross.
import { useState } from "react";
import { useAsked } from "../api/queries";
import { useBeside } from "../before/beside";
import { SideBySide } from "../columns/SideBySide";
import type { Asked } from "../api/client";
import { PinnedContext } from "../labels/Judged";
import { LabelBar } from "../labels/LabelBar";
import { useLabelMode } from "../labels/mode";
import { useNamedBranch, usePin, useStage, type StageName } from "../shell/pin";
import { NotBuilt, Shown } from "../shell/states";
import { Chunks } from "./chunks/Chunks";
import { ChunksPinned } from "./chunks/ChunksPinned";
import { Context } from "./context/Context";
import { ContextPinned } from "./context/ContextPinned";
import { Dense, DensePinned } from "./dense/Dense";
import { Documents } from "./documents/Documents";
import { DocumentsPinned } from "./documents/DocumentsPinned";
import { Fused, FusedPinned } from "./fused/Fused";
import { Reranked, RerankedPinned } from "./reranked/Reranked";
import { PinHead } from "./shared/PinHead";
import { Sparse, SparsePinned } from "./sparse/Sparse";

const NOT_BUILT = "The indexes of the recipe in force are not built for the present documents yet.";

const WHOLE: Record<StageName, React.ComponentType> = {
  documents: Documents,
  chunks: Chunks,
  sparse: Sparse,
  dense: Dense,
  fused: Fused,
  reranked: Reranked,
  context: Context,
};
const PINNED: Record<StageName, React.ComponentType<{ asked: Asked }>> = {
  documents: DocumentsPinned,
  chunks: ChunksPinned,
  sparse: SparsePinned,
  dense: DensePinned,
  fused: FusedPinned,
  reranked: RerankedPinned,
  context: ContextPinned,
};

export function StageView() {
  const stage = useStage() ?? "fused";
  const pin = usePin();
  const branch = useNamedBranch();
  const asked = useAsked(pin.question, pin.text, useBeside());
  const mode = useLabelMode();
  const [columns, setColumns] = useState(false);
  if (pin.question === null && pin.text === null) {
    const View = WHOLE[stage];
    return <View />;
  }
  const View = PINNED[stage];
  return (
    <Shown query={asked} what="Asking">
      {(data) => (
        <PinnedContext value={data}>
          <PinHead asked={data} stage={stage} columns={columns} setColumns={setColumns} />
          {mode.on && data.question && <LabelBar asked={data} />}
          <div className="body" key={`${pin.question}${pin.text}${stage}${branch}`}>
            {columns && data.built ? (
              <SideBySide asked={data} />
            ) : data.built || stage === "documents" ? (
              <View asked={data} />
            ) : (
              <NotBuilt detail={NOT_BUILT} />
            )}
          </div>
        </PinnedContext>
      )}
    </Shown>
  );
}
