// Suggested questions, and what becomes of them.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, done, unwrap, type Schemas } from "../api/client";
import { labelsChanged } from "../labels/api";
import { useWorkspace } from "../shell/workspace";

export type Suggestion = Schemas["Suggested"];

export function useSuggestions() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["suggestions", workspace],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/suggestions", {
          params: { path: { workspace }, query: { count: 12 } },
        }),
      ),
    staleTime: Infinity,
  });
}

/** `words` are those of the question that comes of it; null refuses it. */
export function useDecide() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ one, words, set }: { one: Suggestion; words: string | null; set?: number }) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/suggestions", {
          params: { path: { workspace } },
          body: {
            document: one.document,
            rule: one.rule,
            text: one.text,
            start: one.start,
            end: one.end,
            words,
            set,
          },
        }),
      ),
    // The next decision does not wait for lists that are read anew.
    onSuccess: (made) => {
      if (made.question !== null) void labelsChanged(queries);
    },
  });
}

export function useOpenAgain() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (one: Suggestion) =>
      done(
        client.PUT("/api/workspaces/{workspace}/suggestions", {
          params: { path: { workspace } },
          body: { document: one.document, text: one.text },
        }),
      ),
    onSuccess: () => void labelsChanged(queries),
  });
}
