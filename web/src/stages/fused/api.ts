// The hook for the mix of branches.
import { useQuery } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";
import { useStamp } from "../../api/queries";
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
