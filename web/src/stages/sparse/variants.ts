// Words for the weightings and the languages of the sparse branch.
export const VARIANTS: Record<string, string> = {
  okapi: "BM25",
  plus: "BM25+, a floor for long chunks",
  long: "BM25L, kind to long chunks",
  dirichlet: "query likelihood, Dirichlet",
  "tf-idf": "TF-IDF cosine",
};
export const LANGUAGES: Record<string, string> = {
  any: "none: words as they stand",
  ar: "Arabic",
  da: "Danish",
  de: "German",
  el: "Greek",
  en: "English",
  es: "Spanish",
  fi: "Finnish",
  fr: "French",
  hu: "Hungarian",
  id: "Indonesian",
  it: "Italian",
  nl: "Dutch",
  no: "Norwegian",
  pt: "Portuguese",
  ro: "Romanian",
  ru: "Russian",
  sv: "Swedish",
  tr: "Turkish",
};

export interface Analysis {
  language: string;
  stem: boolean;
  stop_words: boolean;
  keep_codes: boolean;
  cjk: string;
  grams: { from: number; to: number } | null;
  synonyms: string[][];
}

const PLAIN: Analysis = {
  language: "en",
  stem: true,
  stop_words: true,
  keep_codes: true,
  cjk: "pairs",
  grams: null,
  synonyms: [],
};

/** The analysis of the recipe's first sparse branch, with what an older version leaves out. */
export function analysisOf(body: unknown): Analysis {
  const branches = (body as { branches?: { kind: string; analysis?: Partial<Analysis> }[] }).branches ?? [];
  return { ...PLAIN, ...branches.find(({ kind }) => kind === "bm25")?.analysis };
}

/** The recipe with this analysis in its first sparse branch. */
export function withAnalysis(body: Record<string, unknown>, analysis: Analysis): Record<string, unknown> {
  const copy = structuredClone(body);
  const branch = (copy.branches as { kind: string; analysis: unknown }[]).find(({ kind }) => kind === "bm25");
  if (branch) branch.analysis = analysis;
  return copy;
}
