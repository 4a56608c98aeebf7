// Where a branch ranked the first relevant chunk, over all labelled questions.
import { useQuestions } from "../../api/queries";
import { Bars, rankBins } from "./Bars";

/** How many answerable questions have a relevant chunk among the branch's first five. */
export function useAmongFirst(branch: string): string {
  const labelled = (useQuestions().data ?? []).filter((row) => row.answerable);
  return `${labelled.filter((row) => (row.ranks[branch] ?? 99) <= 5).length} of ${labelled.length}`;
}

export function FirstRanks({ branch, tone }: { branch: string; tone: string }) {
  const labelled = (useQuestions().data ?? []).filter((row) => row.answerable);
  return (
    <div>
      <h3>Rank of the first relevant chunk</h3>
      <Bars
        tone={tone}
        data={rankBins(labelled.map((row) => row.ranks[branch]))}
        x="rank, smaller is better"
        y="questions"
      />
    </div>
  );
}
