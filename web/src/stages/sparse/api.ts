// Hooks for a sparse branch: its index, its analysis, and why it scores chunks as it does.
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { client, unwrap, type Asked, type Schemas } from "../../api/client";
import { useStamp } from "../../api/queries";
import { useBeside } from "../../before/beside";
import { useWorkspace } from "../../shell/workspace";

export type SparseFacts = Schemas["SparseFacts"];
export type AnalysisStep = Schemas["AnalysisStep"];
export type HardCase = Schemas["HardCase"];

export function useSparseStage(branch: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["sparse-stage", workspace, recipe, trial, branch],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/sparse/index", {
          params: { path: { workspace }, query: { branch: branch ?? undefined } },
        }),
      ),
    enabled: recipe !== undefined,
  });
}

/** Term by term, why the sparse branch scores chunks for a question as it does. */
export function useExplained(asked: Asked, chunks: number[], branch: string) {
  const text = asked.trace.question;
  const words = asked.trace.asked?.wordings[0]?.words ?? null;
  const without = useBeside().without.join(",");
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["explained", workspace, recipe, trial, text, words, without, chunks, branch],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/sparse/explained", {
          params: { path: { workspace } },
          body: { text, words, without, chunks, branch },
        }),
      ),
    enabled: recipe !== undefined && chunks.length > 0,
    staleTime: Infinity,
  });
}

/** The terms that a branch added to a chunk when it was indexed; asked for once somebody looks. */
export function useAdded(chunk: number | null, branch: string, looked: boolean) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["added-terms", workspace, recipe, trial, chunk, branch],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/sparse/added/{chunk}", {
          params: { path: { workspace, chunk: chunk ?? 0 }, query: { branch } },
        }),
      ),
    enabled: recipe !== undefined && chunk !== null && looked,
    staleTime: Infinity,
  });
}

export function useAnalysis(text: string, analysis: unknown, branch: string | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["analysis", workspace, recipe, trial, text, analysis, branch],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/sparse/analysis", {
          params: { path: { workspace }, query: { branch: branch ?? undefined } },
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
