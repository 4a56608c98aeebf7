// Question sets: what there are, made and changed.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, unwrap, type Schemas } from "../api/client";
import { labelsChanged } from "../labels/api";
import { useWorkspace } from "../shell/workspace";

export type QuestionSet = Schemas["QuestionSet"];

export function useQuestionSets() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["question-sets", workspace],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/question-sets", { params: { path: { workspace } } })),
  });
}

export function useMakeSet() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["NewSet"]) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/question-sets", { params: { path: { workspace } }, body }),
      ),
    onSuccess: () => labelsChanged(queries),
  });
}

export function useChangeSet() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async ({ set, change }: { set: number; change: Schemas["PatchedChangeSet"] }) => {
      const { error, response } = await client.PATCH("/api/workspaces/{workspace}/question-sets/{number}", {
        params: { path: { workspace, number: set } },
        body: change,
      });
      if (!response.ok) throw new Error((error as { detail?: string })?.detail ?? "The set was not changed.");
    },
    onSuccess: () => labelsChanged(queries),
  });
}
