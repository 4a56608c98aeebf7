// Pools of passages, judged one at a time.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, done, unwrap, type Job, type Schemas } from "../api/client";
import { labelsChanged } from "../labels/api";
import { useWorkspace } from "../shell/workspace";

export type Pool = Schemas["Pool"];
export type ToJudge = Schemas["ToJudge"];
export type Differ = Schemas["Differ"];

/** The pools; read anew when a job that makes one goes on. */
export function usePools(making: Job | null | undefined) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["pools", workspace, making?.id, making?.state],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/pools", { params: { path: { workspace } } })),
    placeholderData: keepPreviousData,
  });
}

export function useMakePool() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["NewPool"]) =>
      unwrap(client.POST("/api/workspaces/{workspace}/pools", { params: { path: { workspace } }, body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["jobs"] }),
  });
}

export function useRemovePool() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (pool: number) =>
      done(
        client.DELETE("/api/workspaces/{workspace}/pools/{pool}", { params: { path: { workspace, pool } } }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["pools"] }),
  });
}

/** Calls of a judge; lists are read anew only when the judge is done, so that nothing waits for them. */
export function useJudgeCalls(pool: number) {
  const workspace = useWorkspace();
  const path = (item: number) => ({ params: { path: { workspace, pool, item } } });
  return {
    next: (count: number) =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/pools/{pool}", {
          params: { path: { workspace, pool }, query: { count } },
        }),
      ),
    judge: (item: number, grade: number) =>
      done(
        client.PUT("/api/workspaces/{workspace}/pools/{pool}/items/{item}", {
          ...path(item),
          body: { grade },
        }),
      ),
    takeBack: (item: number) =>
      done(client.DELETE("/api/workspaces/{workspace}/pools/{pool}/items/{item}", path(item))),
  };
}

export function useAgreement(pool: number) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["agreement", workspace, pool],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/pools/{pool}/agreement", {
          params: { path: { workspace, pool } },
        }),
      ),
  });
}

export function useSettle(pool: number) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ item, grade }: { item: number; grade: number }) =>
      done(
        client.PUT("/api/workspaces/{workspace}/pools/{pool}/items/{item}/settled", {
          params: { path: { workspace, pool, item } },
          body: { grade },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["agreement"] });
      await labelsChanged(queries);
    },
  });
}
