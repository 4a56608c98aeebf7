// What gates fetch and send.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, done, unwrap, type Schemas } from "../api/client";
import { useStamp } from "../api/queries";
import { useWorkspace } from "../shell/workspace";

export type Gate = Schemas["Gate"];
export type GateResult = Schemas["GateResult"];
export type NewGate = Schemas["NewGate"];

const EVERY = 2000;

export function useGates() {
  const workspace = useWorkspace();
  const stamp = useStamp();
  return useQuery({
    queryKey: ["gates", workspace, ...stamp],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/gates", { params: { path: { workspace } } })),
    refetchInterval: (query) => (query.state.data?.some(({ job }) => job) ? EVERY : false),
  });
}

/** A change of gates; the list is read again after it. */
function useGateChange<T>(change: (workspace: number, given: T) => Promise<unknown>) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (given: T) => change(workspace, given),
    onSuccess: () =>
      Promise.all(["gates", "line", "jobs"].map((name) => queries.invalidateQueries({ queryKey: [name] }))),
  });
}

export const useMakeGate = () =>
  useGateChange((workspace, body: NewGate) =>
    unwrap(client.POST("/api/workspaces/{workspace}/gates", { params: { path: { workspace } }, body })),
  );

export const useRemoveGate = () =>
  useGateChange((workspace, gate: number) =>
    done(
      client.DELETE("/api/workspaces/{workspace}/gates/{gate}", { params: { path: { workspace, gate } } }),
    ),
  );

export const useLookAtGate = () =>
  useGateChange((workspace, gate: number) =>
    unwrap(
      client.POST("/api/workspaces/{workspace}/gates/{gate}/look", { params: { path: { workspace, gate } } }),
    ),
  );

export const useTakeBaseline = () =>
  useGateChange((workspace, gate: number) =>
    unwrap(
      client.POST("/api/workspaces/{workspace}/gates/{gate}/baseline", {
        params: { path: { workspace, gate } },
      }),
    ),
  );
