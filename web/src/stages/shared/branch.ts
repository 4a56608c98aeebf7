// Which branch of the recipe a view is about: the one that the address names, or the first of its family.
import { useLine } from "../../api/queries";
import { useNamedBranch } from "../../shell/pin";

export type BranchFamily = "sparse" | "dense";

/** Ids of the branches of a family, in the recipe's order; undefined until the line has come. */
export function useBranchIds(family: BranchFamily): string[] | undefined {
  const line = useLine();
  return line.data?.stages.filter((stage) => stage.kind === family).map((stage) => stage.stage);
}

/** The branch that a view of a family is about; null where the recipe has none, empty until that is known. */
export function useBranchId(family: BranchFamily): string | null {
  const ids = useBranchIds(family);
  const named = useNamedBranch();
  if (!ids) return "";
  return ids.find((id) => id === named) ?? ids[0] ?? null;
}

/** All branches of the recipe with their families, in its order. */
export function useBranches(): { id: string; family: BranchFamily }[] {
  const line = useLine();
  return (line.data?.stages ?? [])
    .filter((stage) => stage.kind === "sparse" || stage.kind === "dense")
    .map((stage) => ({ id: stage.stage, family: stage.kind as BranchFamily }));
}
