// What the comparisons fetch, and how their figures are said.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { client, unwrap, type Schemas } from "../api/client";
import { useTrials } from "../api/queries";
import { useWorkspace } from "../shell/workspace";
import { score } from "../text/numbers";

export type Comparison = Schemas["Comparison"];
export type ComparedRow = Schemas["ComparedRow"];
export type Cell = Schemas["Cell"];
export type Column = Schemas["Column"];
export type ComparedQuestions = Schemas["ComparedQuestions"];
export type ComparedQuestion = Schemas["ComparedQuestion"];

/** What is compared: a metric after a stage, told by its kind and its number among those of it. */
export interface Measure {
  metric: string;
  stage: string;
  nth: number;
}

export function useComparison(measure: Measure, baseline: number | null, beside: number[]) {
  const workspace = useWorkspace();
  // Another trial is another comparison.
  const newest = useTrials().data?.[0]?.id;
  return useQuery({
    queryKey: ["comparison", workspace, newest, measure, baseline, beside],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/comparison", {
          params: {
            path: { workspace },
            query: { ...measure, baseline: baseline ?? undefined, beside: beside.join(",") || undefined },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

export function useComparedQuestions(first: number, second: number, measure: Measure) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["compared questions", workspace, first, second, measure],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/comparison/questions", {
          params: { path: { workspace }, query: { first, second, ...measure } },
        }),
      ),
  });
}

/** A question under a recipe that need not be the one in force, with its trace. */
export function useAskedUnder(recipe: number, question: number | null) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["asked under", workspace, recipe, question],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/questions/{question}", {
          params: { path: { workspace, question: question ?? 0 }, query: { recipe } },
        }),
      ),
    enabled: question !== null,
    staleTime: Infinity,
  });
}

export const signed = (value: number): string => `${value < 0 ? "−" : "+"}${score(Math.abs(value))}`;

export const chance = (p: number): string =>
  p < 0.001 ? "p below .001" : p >= 0.9995 ? "p 1" : `p ${score(p)}`;

/** A difference in words, with how sure it is. */
export function verdict(cell: Cell): string {
  if (!cell.difference) return "";
  return cell.difference.wins || cell.difference.losses
    ? `${cell.said}, ${chance(cell.holm ?? cell.difference.p)}`
    : cell.said;
}

/** What so many questions can see, as the median over recipes that differ at all; null where none does. */
export function sight(cells: Cell[]): { sees: number; more: number } | null {
  const found = cells
    .flatMap(({ difference }) => (difference && difference.sees > 0 ? [difference] : []))
    .sort((a, b) => a.sees - b.sees);
  return found[Math.floor(found.length / 2)] ?? null;
}
