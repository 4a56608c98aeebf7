// The id that a recipe gives to its sparse or dense branch; null where it has none.
import { useLine } from "../../api/queries";

export function useBranchId(kind: "sparse" | "dense"): string | null {
  const line = useLine();
  if (!line.data) return "";
  return line.data.stages.find((stage) => stage.kind === kind)?.stage ?? null;
}
