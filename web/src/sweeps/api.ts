// What sweeps fetch and send.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, done, unwrap, type Schemas } from "../api/client";
import { running, useStamp } from "../api/queries";
import { useWorkspace } from "../shell/workspace";
import { score } from "../text/numbers";

export type Sweep = Schemas["Sweep"];
export type Swept = Schemas["Swept"];
export type SweepRow = Schemas["SweepRow"];
export type AxisOffer = Schemas["AxisOffer"];
export type NewSweep = Schemas["NewSweep"];
export type Moved = Schemas["Moved"];

const EVERY = 1000;

export function useSweeps() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["sweeps", workspace],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/sweeps", { params: { path: { workspace } } })),
    refetchInterval: (query) => (query.state.data?.some((one) => running(one.job)) ? EVERY : false),
  });
}

export function useSweep(sweep: number) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["sweep", workspace, sweep],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/sweeps/{sweep}", {
          params: { path: { workspace, sweep } },
        }),
      ),
    refetchInterval: (query) => (running(query.state.data?.job) ? EVERY : false),
  });
}

export function useAxes(recipe: number | undefined) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["axes", workspace, recipe],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/sweeps/axes", {
          params: { path: { workspace }, query: { recipe } },
        }),
      ),
    enabled: recipe !== undefined,
    staleTime: Infinity,
  });
}

export function useOutlook(wish: NewSweep | null) {
  const workspace = useWorkspace();
  const stamp = useStamp();
  return useQuery({
    queryKey: ["sweep outlook", workspace, stamp, wish],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/sweeps/outlook", {
          params: { path: { workspace } },
          body: wish!,
        }),
      ),
    enabled: wish !== null,
    retry: false,
    placeholderData: keepPreviousData,
  });
}

export function useStartSweep(started: (sweep: number) => void) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewSweep) =>
      unwrap(client.POST("/api/workspaces/{workspace}/sweeps", { params: { path: { workspace } }, body })),
    onSuccess: async (made) => {
      await queries.invalidateQueries({ queryKey: ["sweeps"] });
      started(made.id);
    },
  });
}

export function useGoOn(sweep: number) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/sweeps/{sweep}/go-on", {
          params: { path: { workspace, sweep } },
        }),
      ),
    onSuccess: () =>
      Promise.all([["sweep"], ["sweeps"]].map((queryKey) => queries.invalidateQueries({ queryKey }))),
  });
}

export function useRemoveSweep(removed: () => void) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (sweep: number) =>
      done(
        client.DELETE("/api/workspaces/{workspace}/sweeps/{sweep}", {
          params: { path: { workspace, sweep } },
        }),
      ),
    onSuccess: () => {
      removed();
      return queries.invalidateQueries({ queryKey: ["sweeps"] });
    },
  });
}

/** The recipe with the settings of a row. */
export function useSweptRecipe() {
  const workspace = useWorkspace();
  return (sweep: number, row: number) =>
    unwrap(
      client.GET("/api/workspaces/{workspace}/sweeps/{sweep}/recipe", {
        params: { path: { workspace, sweep }, query: { row } },
      }),
    );
}

/** A value of a setting for people. */
export const valued = (value: unknown): string =>
  value === null ? "empty" : value === true ? "on" : value === false ? "off" : String(value);

export const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

export const mean = (value: number | null): string => (value === null ? "–" : score(value));
