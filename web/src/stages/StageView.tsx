// Where a stage and the pin cross.
import { useAsked } from "../api/queries";
import type { Asked } from "../api/client";
import { useNamedBranch, usePin, useStage, type StageName } from "../shell/pin";
import { Shown } from "../shell/states";
import { Chunks } from "./chunks/Chunks";
import { ChunksPinned } from "./chunks/ChunksPinned";
import { Context, ContextPinned } from "./context/Context";
import { Dense, DensePinned } from "./dense/Dense";
import { Documents, DocumentsPinned } from "./documents/Documents";
import { Fused, FusedPinned } from "./fused/Fused";
import { Reranked, RerankedPinned } from "./reranked/Reranked";
import { PinHead } from "./shared/PinHead";
import { Sparse, SparsePinned } from "./sparse/Sparse";

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
  const asked = useAsked(pin.question, pin.text);
  if (pin.question === null && pin.text === null) {
    const View = WHOLE[stage];
    return <View />;
  }
  const View = PINNED[stage];
  return (
    <Shown query={asked} what="Asking">
      {(data) => (
        <>
          <PinHead asked={data} stage={stage} />
          <div className="body" key={`${pin.question}${pin.text}${stage}${branch}`}>
            <View asked={data} />
          </div>
        </>
      )}
    </Shown>
  );
}
