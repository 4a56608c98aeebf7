// Hooks for reranking: what falls under a floor, depths measured, scorers, and a scorer on its own.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useWorkspace } from "../../shell/workspace";
import { client, unwrap, type Schemas } from "../../api/client";
import { useStamp, whileRunning } from "../../api/queries";

export type Floor = Schemas["Floor"];
export type Depths = Schemas["Depths"];
export type DepthPoint = Schemas["DepthPoint"];
export type Scorer = Schemas["Scorer"];
export type FittedVersion = Schemas["FittedVersion"];
export type Tried = Schemas["Tried"];
export type TriedRow = Schemas["TriedRow"];

export function useFloor() {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["floor", workspace, recipe, trial],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/reranked/floor", { params: { path: { workspace } } }),
      ),
    enabled: recipe !== undefined,
    staleTime: Infinity,
  });
}

export function useDepths() {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["depths", workspace, recipe, trial],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/reranked/depths", { params: { path: { workspace } } }),
      ),
    enabled: recipe !== undefined,
    refetchInterval: whileRunning,
  });
}

export function useStartDepths() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/reranked/depths", {
          params: { path: { workspace } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["depths"] }),
  });
}

export function useScorers() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["scorers", workspace],
    queryFn: () => unwrap(client.GET("/api/scorers", { params: { query: { workspace } } })),
  });
}

export function useFit() {
  const workspace = useWorkspace();
  const [recipe] = useStamp();
  return useQuery({
    queryKey: ["fit", workspace, recipe],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/reranked/fit", { params: { path: { workspace } } }),
      ),
    enabled: recipe !== undefined,
    refetchInterval: whileRunning,
  });
}

export function useStartFit() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/reranked/fit", { params: { path: { workspace } } }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["fit"] }),
  });
}

export function useTried(scorer: string, question: string, passages: string[]) {
  return useQuery({
    queryKey: ["tried", scorer, question, passages],
    queryFn: () => unwrap(client.POST("/api/scorers/try", { body: { scorer, question, passages } })),
    enabled: scorer !== "" && question.trim() !== "" && passages.length > 0,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function useRestsOn(scorer: string, question: string, passage: string | null, around: string[]) {
  return useQuery({
    queryKey: ["rests-on", scorer, question, passage, around],
    queryFn: () =>
      unwrap(
        client.POST("/api/scorers/rests-on", {
          body: { scorer, question, passage: passage ?? "", around: around.length ? around : undefined },
        }),
      ),
    enabled: scorer !== "" && question.trim() !== "" && Boolean(passage),
    staleTime: Infinity,
    retry: false,
  });
}
