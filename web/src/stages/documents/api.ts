// Hooks for what changes the corpus: imports, corrections, removals, labels.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, done, sendForm, unwrap, type Schemas } from "../../api/client";
import { running, whileRunning } from "../../api/queries";
import { useWorkspace } from "../../shell/workspace";
import type { Named } from "./dropped";

export type Import = Schemas["Import"];
export type ImportedFile = Schemas["ImportedFile"];
export type LostLabel = Schemas["LostLabel"];
export type Outline = Schemas["Outline"];
export interface Fields {
  matched: string[];
  carried: string[];
  title: string;
  id: string;
}

const BATCH_BYTES = 16 * 2 ** 20;
const BATCH_FILES = 50;

export function useImport() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useQuery({
    queryKey: ["import", workspace],
    queryFn: async () => {
      const before = queries.getQueryData<Import | null>(["import", workspace]);
      // Without an import there is no body.
      const answer = await client.GET("/api/workspaces/{workspace}/imports", {
        params: { path: { workspace } },
      });
      const found = answer.response.status === 204 ? null : await unwrap(Promise.resolve(answer));
      // Documents, line and trial have changed once an import that ran is over.
      if (running(before?.job) && !running(found?.job))
        void queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "import" });
      return found;
    },
    refetchInterval: whileRunning,
  });
}

export function useBeginImport() {
  const workspace = useWorkspace();
  return useMutation({
    mutationFn: () =>
      unwrap(client.POST("/api/workspaces/{workspace}/imports", { params: { path: { workspace } } })),
  });
}

/** Sends files in batches; `sent` is told how many bytes have gone. */
export function useStageFiles() {
  const workspace = useWorkspace();
  return useMutation({
    mutationFn: async ({
      number,
      files,
      sent,
    }: {
      number: number;
      files: Named[];
      sent: (bytes: number) => void;
    }) => {
      const rows: ImportedFile[] = [];
      let gone = 0;
      for (let first = 0; first < files.length;) {
        const form = new FormData();
        let bytes = 0;
        let count = 0;
        while (first + count < files.length && count < BATCH_FILES) {
          const { file, name } = files[first + count]!;
          if (count && bytes + file.size > BATCH_BYTES) break;
          form.append("files", file);
          form.append("names", name);
          bytes += file.size;
          count += 1;
        }
        rows.push(
          ...(await sendForm<ImportedFile[]>(`/api/workspaces/${workspace}/imports/${number}/files`, form)),
        );
        first += count;
        gone += bytes;
        sent(gone);
      }
      return rows;
    },
  });
}

/** Where the text of a page stands on it. */
export function usePageLines({ id, version }: { id: number; version: number }, page: number) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["page-lines", workspace, id, version, page],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/documents/{document}/pages/{page}/lines", {
          params: { path: { workspace, document: id, page } },
        }),
      ),
    staleTime: Infinity,
  });
}

export function useFieldsSeen(number: number, file: number) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["fields", workspace, number, file],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/imports/{brought_in}/files/{file}/fields", {
          params: { path: { workspace, brought_in: number, file } },
        }),
      ),
    staleTime: Infinity,
  });
}

export function useSetFields(number: number, file: number) {
  const workspace = useWorkspace();
  return useMutation({
    mutationFn: (fields: Fields | null) =>
      unwrap(
        client.PUT("/api/workspaces/{workspace}/imports/{brought_in}/files/{file}/fields", {
          params: { path: { workspace, brought_in: number, file } },
          body: { fields },
        }),
      ),
  });
}

export function useStartImport() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (number: number) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/imports/{brought_in}/start", {
          params: { path: { workspace, brought_in: number } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["import", workspace] }),
  });
}

export function useRemoveDocuments() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (documents: number[]) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/documents", {
          params: { path: { workspace } },
          body: { documents },
        }),
      ),
    onSuccess: async (_, documents) => {
      await queries.invalidateQueries({ queryKey: ["documents", workspace] });
      // What is gone must not be asked for again while the list still shows it.
      const gone = (key: readonly unknown[]) =>
        (key[0] === "document" || key[0] === "document-view") && documents.includes(key[2] as number);
      queries.removeQueries({ predicate: (query) => gone(query.queryKey) });
      return queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "documents" });
    },
  });
}

export function useCorrectOutline(document: number) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Outline) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/documents/{document}/outline", {
          params: { path: { workspace, document } },
          body,
        }),
      ),
    onSuccess: (found) => {
      queries.setQueryData(["document", workspace, document], found);
      return queries.invalidateQueries({
        predicate: (query) => query.queryKey[0] !== "document" || query.queryKey[2] !== document,
      });
    },
  });
}

export function useLostLabels() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["lost-labels", workspace],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/labels/lost", { params: { path: { workspace } } })),
  });
}

export function usePlaceLabel() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({
      label,
      place,
    }: {
      label: number;
      place: { document: number; start: number; end: number } | null;
    }) => {
      const params = { path: { workspace, label } };
      return place
        ? done(client.PUT("/api/workspaces/{workspace}/labels/{label}", { params, body: place }))
        : done(client.DELETE("/api/workspaces/{workspace}/labels/{label}", { params }));
    },
    onSuccess: () => queries.invalidateQueries(),
  });
}
