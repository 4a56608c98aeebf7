// Hooks for the mix of branches, and for the mix that labels speak for.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";
import { useStamp, whileRunning } from "../../api/queries";
import { useWorkspace } from "../../shell/workspace";

export function useMix(question?: number) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["mix", workspace, recipe, trial, question],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/stages/fused/mix", {
          params: { path: { workspace }, query: { question } },
        }),
      ),
    enabled: typeof trial === "number",
    staleTime: Infinity,
  });
}

/** The mix that was fitted to labels, and the job that fits. */
export function useFusionFit() {
  const workspace = useWorkspace();
  const stamp = useStamp();
  return useQuery({
    queryKey: ["fusion fit", workspace, ...stamp],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/stages/fused/fit", { params: { path: { workspace } } })),
    refetchInterval: whileRunning,
  });
}

export function useStartFusionFit() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/fused/fit", { params: { path: { workspace } } }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["fusion fit"] }),
  });
}
