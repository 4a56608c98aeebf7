// Where a recipe has several branches of a family: which of them is looked at.
import { Segments } from "../../shell/Segments";
import { useGo } from "../../shell/pin";
import { useBranchId, useBranchIds, type BranchFamily } from "./branch";

export function BranchChoice({ family }: { family: BranchFamily }) {
  const ids = useBranchIds(family) ?? [];
  const chosen = useBranchId(family);
  const go = useGo();
  if (ids.length < 2 || !chosen) return null;
  return (
    <Segments
      options={ids.map((id) => [id, id] as [string, string])}
      value={chosen}
      choose={(branch) => go({ branch })}
    />
  );
}
