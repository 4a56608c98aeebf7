// What a build will cost, before it starts.
import { useCost } from "./api";
import { useSettled } from "../stages/chunks/settled";
import { bytes, duration } from "../text/numbers";
import type { RecipeBody } from "./paths";

export function BuildCost({ body }: { body: RecipeBody }) {
  const settled = useSettled(body, 400);
  const cost = useCost(settled);
  if (cost.error || !cost.data) return null;
  const { steps, cut, seconds, disk_bytes, memory_bytes, remarks } = cost.data;
  const said = remarks.map((remark) => (
    <div className="lost" key={remark}>
      {remark}
    </div>
  ));
  if (!steps.length && !cut)
    return (
      <div className="build-cost small-text" data-cost="none">
        Nothing to build: this applies when a question is asked.
        {said}
      </div>
    );
  const tokens = Math.max(0, ...steps.map((step) => step.tokens));
  const chunks = Math.max(cut, ...steps.map((step) => step.chunks));
  return (
    <div className="build-cost small-text num" data-cost="some">
      <b>To build: about {duration(seconds)}</b> for {chunks.toLocaleString()} chunks with{" "}
      {tokens.toLocaleString()} tokens, at the rate measured on this machine. {bytes(disk_bytes)} on disk, up
      to {bytes(memory_bytes)} of memory.
      <div className="soft">
        {[...(cut ? ["cut documents"] : []), ...steps.map((step) => step.title)].join(", ")}
      </div>
      {said}
    </div>
  );
}
