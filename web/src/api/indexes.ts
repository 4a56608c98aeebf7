// Hooks for the indexes: facts, structures measured, neighbours, the map, near-identical chunks, analysis, cost.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useWorkspace } from "../shell/workspace";
import { client, unwrap, type Schemas } from "./client";
import { useStamp, whileRunning } from "./queries";

export type SparseFacts = Schemas["SparseFacts"];
export type DenseFacts = Schemas["DenseFacts"];
export type Point = Schemas["Point"];
export type VectorMapData = Schemas["VectorMap"];
export type BriefChunk = Schemas["BriefChunk"];
export type AnalysisStep = Schemas["AnalysisStep"];
export type HardCase = Schemas["HardCase"];
export type Cost = Schemas["Cost"];

export function useIndexStage() {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["index-stage", workspace, recipe, trial],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/stages/indexes", { params: { path: { workspace } } })),
    enabled: recipe !== undefined,
  });
}

export function useSurvey() {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["survey", workspace, recipe, trial],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/survey", { params: { path: { workspace } } }),
      ),
    enabled: recipe !== undefined,
    refetchInterval: whileRunning,
  });
}

export function useStartSurvey() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/dense/survey", { params: { path: { workspace } } }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["survey"] }),
  });
}

export function useNeighbours(chunk: number | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["neighbours", workspace, recipe, trial, chunk],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/neighbours", {
          params: { path: { workspace }, query: { chunk: chunk ?? 0 } },
        }),
      ),
    enabled: chunk !== null,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}

export function useVectorMap(question: number | null, text: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["vector-map", workspace, recipe, trial, question, text],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/map", {
          params: {
            path: { workspace },
            query: { question: question ?? undefined, text: text ?? undefined },
          },
        }),
      ),
    enabled: recipe !== undefined,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}

export function useClosePairs(above: number) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["pairs", workspace, recipe, trial, above],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/pairs", {
          params: { path: { workspace }, query: { above } },
        }),
      ),
    enabled: recipe !== undefined,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}

export function useAnalysis(text: string, analysis: unknown) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["analysis", workspace, recipe, trial, text, analysis],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/sparse/analysis", {
          params: { path: { workspace } },
          body: { text, analysis },
        }),
      ),
    enabled: recipe !== undefined,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function useReadSynonyms(read: (groups: string[][]) => void) {
  const workspace = useWorkspace();
  return useMutation({
    mutationFn: (given: { text: string; name: string }) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/sparse/synonyms", {
          params: { path: { workspace } },
          body: given,
        }),
      ),
    onSuccess: (data) => read(data.groups),
  });
}

export function useEncoders() {
  return useQuery({ queryKey: ["encoders"], queryFn: () => unwrap(client.GET("/api/encoders")) });
}

/** What building a recipe would take; a body with mistakes has no cost. */
export function useCost(body: unknown) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["cost", workspace, recipe, trial, body],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/recipes/cost", {
          params: { path: { workspace } },
          body: { body },
        }),
      ),
    retry: false,
    staleTime: 60_000,
    placeholderData: keepPreviousData,
  });
}
