// The scorers of a recipe's reranking: one stands by its name, several stand in a list with their weights.
import type { RecipeBody } from "./paths";

/** The share of the fused score beside several scorers, where a recipe says nothing. */
export const BLEND_OF_SEVERAL = 0;

export interface Use {
  scorer: string;
  weight: number;
}

type Rerank = { scorer?: string; scorers?: Use[] } & RecipeBody;

/** What reranks, each with its weight; nothing where nothing does. */
export function usesOf(rerank: unknown): Use[] {
  const part = rerank as Rerank | null | undefined;
  if (!part) return [];
  return part.scorers ?? (part.scorer ? [{ scorer: part.scorer, weight: 1 }] : []);
}

/** The part of a recipe with other scorers; nothing where there is none. */
export function withUses(rerank: unknown, uses: Use[]): RecipeBody | null {
  if (!uses.length) return null;
  const rest = { ...((rerank as Rerank | null) ?? {}) };
  delete rest.scorer;
  delete rest.scorers;
  // What a kind of scorer is told stands beside it, and goes when it is another or one of several.
  const common = ["shortlist", "blend", "floor", "window", "windows"];
  const kept = Object.fromEntries(Object.entries(rest).filter(([name]) => common.includes(name)));
  if (uses.length === 1) return { scorer: uses[0]!.scorer, ...kept };
  return { scorers: uses, ...kept };
}
