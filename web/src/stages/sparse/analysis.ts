// The analysis of a sparse branch of a recipe, read and set.
export interface Analysis {
  language: string;
  stem: boolean;
  stop_words: boolean;
  keep_codes: boolean;
  cjk: string;
  grams: { from: number; to: number } | null;
  synonyms: string[][];
}
interface Branch {
  id: string;
  analysis?: Partial<Analysis>;
}

const branchOf = (body: object, branch: string | null): Branch | undefined => {
  const branches = (body as { branches?: Branch[] }).branches ?? [];
  return branches.find(({ id }) => id === branch) ?? branches.find((one) => one.analysis !== undefined);
};

/** The analysis of a branch, or of the first that has one; what an older recipe leaves out starts as the server says. */
export function analysisOf(body: object, branch: string | null, start: object): Analysis {
  return { ...start, ...branchOf(body, branch)?.analysis } as Analysis;
}

/** The recipe with this analysis in that branch. */
export function withAnalysis(body: object, branch: string | null, analysis: Analysis): object {
  const copy = structuredClone(body);
  const found = branchOf(copy, branch);
  if (found) found.analysis = analysis;
  return copy;
}
