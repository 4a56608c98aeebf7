// Workspaces and members: made, changed, removed, brought back.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, done, sendForm, unwrap, type Schemas, type Workspace } from "../api/client";
import { useWorkspace } from "../shell/workspace";

export type Member = Schemas["Member"];
export type Role = Workspace["role"];
export const ROLES: [role: Role, may: string][] = [
  ["reader", "looks and asks"],
  ["judge", "labels and judges as well"],
  ["editor", "changes documents, questions and recipes as well"],
  ["owner", "changes the workspace and its members as well"],
];

export function useMakeWorkspace() {
  return useMutation({
    mutationFn: (name: string) => unwrap(client.POST("/api/workspaces", { body: { name } })),
  });
}

export function useRemovedWorkspaces() {
  return useQuery({
    queryKey: ["removed-workspaces"],
    queryFn: () => unwrap(client.GET("/api/workspaces", { params: { query: { removed: true } } })),
  });
}

export function useBringBack() {
  return useMutation({
    mutationFn: (workspace: number) =>
      unwrap(client.POST("/api/workspaces/{workspace}/bring-back", { params: { path: { workspace } } })),
  });
}

export function useHoldings() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["holdings", workspace],
    queryFn: () => unwrap(client.GET("/api/workspaces/{workspace}/", { params: { path: { workspace } } })),
  });
}

export function useRename() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (name: string) =>
      done(client.PATCH("/api/workspaces/{workspace}/", { params: { path: { workspace } }, body: { name } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["workspaces"] }),
  });
}

/** A workspace out of a file that was exported from one. */
export function useImportWorkspace() {
  return useMutation({
    mutationFn: (file: File) => {
      const form = new FormData();
      form.append("file", file);
      return sendForm<Workspace>("/api/workspaces/import", form);
    },
  });
}

export function useCopyWorkspace() {
  const workspace = useWorkspace();
  return useMutation({
    mutationFn: (name: string) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/copy", { params: { path: { workspace } }, body: { name } }),
      ),
  });
}

export function useEmptyWorkspace() {
  const workspace = useWorkspace();
  return useMutation({
    mutationFn: () =>
      unwrap(client.POST("/api/workspaces/{workspace}/emptied", { params: { path: { workspace } } })),
  });
}

export function useRemoveWorkspace() {
  const workspace = useWorkspace();
  return useMutation({
    mutationFn: () =>
      done(client.DELETE("/api/workspaces/{workspace}/", { params: { path: { workspace } } })),
  });
}

export function useMembers() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["members", workspace],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/members", { params: { path: { workspace } } })),
  });
}

export function useInvite() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["Invite"]) =>
      unwrap(client.POST("/api/workspaces/{workspace}/members", { params: { path: { workspace } }, body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["members"] }),
  });
}

export function useChangeMember() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ member, role }: { member: number; role: Role | null }) => {
      const params = { path: { workspace, member } };
      return role === null
        ? done(client.DELETE("/api/workspaces/{workspace}/members/{member}", { params }))
        : done(client.PATCH("/api/workspaces/{workspace}/members/{member}", { params, body: { role } }));
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: ["members"] }),
  });
}

export function useSetPassword() {
  return useMutation({
    mutationFn: (body: { password: string; present: string }) =>
      done(client.PUT("/api/session/password", { body })),
  });
}
