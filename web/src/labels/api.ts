// Writing questions and labels: each is saved at once, and each can be taken back.
import { useMutation, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { client, done, unwrap, type QuestionRow, type Schemas } from "../api/client";
import { useWorkspace } from "../shell/workspace";

export type Label = Schemas["Label"];
export type QuestionChange = Schemas["PatchedChangeQuestion"];
export interface Place {
  document: number;
  start: number | null;
  end: number | null;
}

/** What hangs on questions and labels: lists, what was asked, the line. */
const OUTDATED = ["asked", "line", "document-view", "question-sets", "trials", "lost-labels"];
const A_FEW = 2000;

/** Has what hangs on labels read anew; of a long list of questions only the one that changed, where it is named. */
export const labelsChanged = (queries: QueryClient, workspace?: number, question?: number) =>
  Promise.all([
    ...OUTDATED.map((key) => queries.invalidateQueries({ queryKey: [key] })),
    workspace !== undefined && question !== undefined && isLong(queries)
      ? oneQuestion(queries, workspace, question)
      : queries.invalidateQueries({ queryKey: ["questions"] }),
  ]);

const lists = (queries: QueryClient) =>
  queries.getQueriesData<QuestionRow[]>({ queryKey: ["questions"] }).filter(([, rows]) => rows?.length);

const isLong = (queries: QueryClient) => lists(queries).some(([, rows]) => rows!.length > A_FEW);

/** Asks for one row of the list: the one behind the row before it. */
async function oneQuestion(queries: QueryClient, workspace: number, question: number) {
  const rows = lists(queries)[0]?.[1] ?? [];
  const place = rows.findIndex((row) => row.id === question);
  const found = await unwrap(
    client.GET("/api/workspaces/{workspace}/questions", {
      params: { path: { workspace }, query: { after: rows[place - 1]?.id, limit: 1 } },
    }),
  );
  if (found[0]?.id !== question) return queries.invalidateQueries({ queryKey: ["questions"] });
  queries.setQueriesData<QuestionRow[]>({ queryKey: ["questions"] }, (before) =>
    before?.map((row) => (row.id === question ? found[0]! : row)),
  );
}

export function useWriteQuestion() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["WriteQuestion"]) =>
      unwrap(client.POST("/api/workspaces/{workspace}/questions", { params: { path: { workspace } }, body })),
    // Lists follow; whoever writes the next one does not wait for them.
    onSuccess: () => void labelsChanged(queries),
  });
}

export function useChangeQuestion() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ question, change }: { question: number; change: QuestionChange }) =>
      unwrap(
        client.PATCH("/api/workspaces/{workspace}/questions/{question}", {
          params: { path: { workspace, question } },
          body: change,
        }),
      ),
    onSuccess: () => labelsChanged(queries),
  });
}

export function useRemoveQuestion() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (question: QuestionRow) =>
      done(
        client.DELETE("/api/workspaces/{workspace}/questions/{question}", {
          params: { path: { workspace, question: question.id } },
        }),
      ),
    onSuccess: () => labelsChanged(queries),
  });
}

/** Calls that change one label, for the steps that label mode does and takes back. */
export function useLabelCalls() {
  const workspace = useWorkspace();
  return {
    give: (question: number, place: Place, grade: number) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/questions/{question}/labels", {
          params: { path: { workspace, question } },
          body: { ...place, grade },
        }),
      ),
    grade: (label: number, grade: number) =>
      unwrap(
        client.PATCH("/api/workspaces/{workspace}/labels/{label}", {
          params: { path: { workspace, label } },
          body: { grade },
        }),
      ),
    place: (label: number, place: { document: number; start: number; end: number }) =>
      unwrap(
        client.PUT("/api/workspaces/{workspace}/labels/{label}", {
          params: { path: { workspace, label } },
          body: place,
        }),
      ),
    remove: (label: number) =>
      done(
        client.DELETE("/api/workspaces/{workspace}/labels/{label}", {
          params: { path: { workspace, label } },
        }),
      ),
    unanswerable: (question: number, unanswerable: boolean) =>
      unwrap(
        client.PATCH("/api/workspaces/{workspace}/questions/{question}", {
          params: { path: { workspace, question } },
          body: { unanswerable },
        }),
      ),
  };
}
