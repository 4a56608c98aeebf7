// Hooks for cutting by any settings, before anything is built.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { client, unwrap, type Schemas } from "../../api/client";
import { useWorkspace } from "../../shell/workspace";
import type { Chunking } from "./settings";

export type Cut = Schemas["Cut"];
export type ChunkFigures = Schemas["ChunkFigures"];
export type Place = Schemas["Place"];

/** One document under settings that nobody has built; the last cut stays on screen until the next is there. */
export function useCut(document: number | null, chunking: Chunking | null) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["cut", workspace, document, chunking],
    queryFn: ({ signal }) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/chunks/cut", {
          params: { path: { workspace } },
          body: { document: document ?? 0, chunking },
          signal,
        }),
      ),
    enabled: document !== null && chunking !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function useChunkFigures(chunking: Chunking | null) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["chunk-figures", workspace, chunking],
    queryFn: ({ signal }) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/stages/chunks/figures", {
          params: { path: { workspace } },
          body: { chunking },
          signal,
        }),
      ),
    enabled: chunking !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });
}
