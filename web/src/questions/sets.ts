// Question sets: what there are, made and changed.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, done, unwrap, type Schemas } from "../api/client";
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
    mutationFn: ({ set, change }: { set: number; change: Schemas["PatchedChangeSet"] }) =>
      done(
        client.PATCH("/api/workspaces/{workspace}/question-sets/{number}", {
          params: { path: { workspace, number: set } },
          body: change,
        }),
      ),
    onSuccess: () => labelsChanged(queries),
  });
}
