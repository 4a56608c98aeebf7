// Files of questions, and sets that go.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ApiError, client, csrfToken, type Schemas } from "../api/client";
import { labelsChanged } from "../labels/api";
import { useWorkspace } from "../shell/workspace";

export type QuestionsSeen = Schemas["QuestionsSeen"];
export type ColumnNames = QuestionsSeen["columns"];
export interface ImportOptions {
  columns: ColumnNames | null;
  offsets: "given" | "canonical";
  set: number | null;
  new_set: string;
  choices: Record<string, string>;
  skip: boolean;
  write: boolean;
}

/** Sends a file to be looked at, or written. */
export function useQuestionFile() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (given: { file: File | null; qrels: File | null; options: ImportOptions }) => {
      const form = new FormData();
      if (given.file) form.append("file", given.file);
      if (given.qrels) form.append("qrels", given.qrels);
      form.append("options", JSON.stringify(given.options));
      const response = await fetch(`/api/workspaces/${workspace}/question-sets/import`, {
        method: "POST",
        body: form,
        headers: { "X-CSRFToken": await csrfToken() },
      });
      const said = (await response.json().catch(() => null)) as (QuestionsSeen & { detail?: string }) | null;
      if (!response.ok || !said)
        throw new ApiError(response.status, said?.detail ?? `The server answered ${response.status}.`);
      return said as QuestionsSeen;
    },
    onSuccess: (seen) => (seen.written ? labelsChanged(queries) : undefined),
  });
}

export function useRemoveSet() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (number: number) => {
      const { error, response } = await client.DELETE("/api/workspaces/{workspace}/question-sets/{number}", {
        params: { path: { workspace, number } },
      });
      if (!response.ok)
        throw new Error((error as { detail?: string } | undefined)?.detail ?? "The set was not removed.");
    },
    onSuccess: () => labelsChanged(queries),
  });
}
