// Hooks for a dense branch: its index, structures measured, neighbours, the map, near-identical chunks.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, unwrap, type Schemas } from "../../api/client";
import { useStamp, whileRunning } from "../../api/queries";
import { useWorkspace } from "../../shell/workspace";

export type DenseFacts = Schemas["DenseFacts"];
export type DenseStage = Schemas["DenseStage"];
export type Point = Schemas["Point"];
export type VectorMapData = Schemas["VectorMap"];
export type BriefChunk = Schemas["BriefChunk"];

/** The branch that a request is about; the first with vectors where there is none. */
const asked = (branch: string | null) => ({ branch: branch ?? undefined });

export function useDenseStage(branch: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["dense-stage", workspace, recipe, trial, branch],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/index", {
          params: { path: { workspace }, query: asked(branch) },
        }),
      ),
    enabled: recipe !== undefined,
  });
}

export function useSurvey(branch: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["survey", workspace, recipe, trial, branch],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/survey", {
          params: { path: { workspace }, query: asked(branch) },
        }),
      ),
    enabled: recipe !== undefined,
    refetchInterval: whileRunning,
  });
}

export function useStartSurvey(branch: string | null) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/dense/survey", {
          params: { path: { workspace }, query: asked(branch) },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["survey"] }),
  });
}

export function useNeighbours(chunk: number | null, branch: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["neighbours", workspace, recipe, trial, branch, chunk],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/neighbours", {
          params: { path: { workspace }, query: { chunk: chunk ?? 0, ...asked(branch) } },
        }),
      ),
    enabled: chunk !== null,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}

export function useVectorMap(question: number | null, text: string | null, branch: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["vector-map", workspace, recipe, trial, branch, question, text],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/map", {
          params: {
            path: { workspace },
            query: { question: question ?? undefined, text: text ?? undefined, ...asked(branch) },
          },
        }),
      ),
    enabled: recipe !== undefined,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}

export function useClosePairs(above: number, branch: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["pairs", workspace, recipe, trial, branch, above],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/dense/pairs", {
          params: { path: { workspace }, query: { above, ...asked(branch) } },
        }),
      ),
    enabled: recipe !== undefined,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
  });
}
