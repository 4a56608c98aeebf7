// Files of questions, and sets that go.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { client, done, sendForm, type Schemas } from "../api/client";
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
    mutationFn: (given: { file: File | null; qrels: File | null; options: ImportOptions }) => {
      const form = new FormData();
      if (given.file) form.append("file", given.file);
      if (given.qrels) form.append("qrels", given.qrels);
      form.append("options", JSON.stringify(given.options));
      return sendForm<QuestionsSeen>(`/api/workspaces/${workspace}/question-sets/import`, form);
    },
    onSuccess: (seen) => (seen.written ? labelsChanged(queries) : undefined),
  });
}

export function useRemoveSet() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (number: number) =>
      done(
        client.DELETE("/api/workspaces/{workspace}/question-sets/{number}", {
          params: { path: { workspace, number } },
        }),
      ),
    onSuccess: () => labelsChanged(queries),
  });
}
