// One hook for each thing that a screen shows.
import { asParameters, type Beside } from "../before/beside";
import { useDraft, useDraftMeasured } from "../draft/draft";
import {
  keepPreviousData,
  useMutation,
  useQuery,
  useQueryClient,
  type QueryClient,
} from "@tanstack/react-query";
import {
  allPages,
  client,
  unwrap,
  type DocumentRow,
  type Job,
  type QuestionRow,
  type RecipeDocument,
} from "./client";
import { useWorkspace } from "../shell/workspace";

const BUSY_EVERY = 700;
export const running = (job: Job | null | undefined) => job?.state === "queued" || job?.state === "running";

/** Asks again and again while the job that makes the data is under way. */
export const whileRunning = (query: { state: { data?: { job?: Job | null } | null } }) =>
  running(query.state.data?.job) ? BUSY_EVERY : false;

export function useWorkspaces() {
  return useQuery({
    queryKey: ["workspaces"],
    queryFn: () => unwrap(client.GET("/api/workspaces")),
    staleTime: Infinity,
  });
}

export function useLine() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["line", workspace],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/line", { params: { path: { workspace } } })),
    refetchInterval: whileRunning,
  });
}

/** What changes when a trial ends or another recipe is in force carries both in its key. */
export function useStamp(): [recipe: number | undefined, trial: number | null | undefined] {
  const { data } = useLine();
  return [data?.recipe.id, data?.trial];
}

/** What there was, where it is more than what has come so far. */
const grown = <T>(before: T[] | undefined, rows: T[]): T[] =>
  before && before.length >= rows.length ? before : rows;

export function useQuestions() {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  const queries = useQueryClient();
  const queryKey = ["questions", workspace, recipe, trial];
  return useQuery({
    queryKey,
    queryFn: () =>
      allPages(
        (after?: QuestionRow) =>
          unwrap(
            client.GET("/api/workspaces/{workspace}/questions", {
              params: { path: { workspace }, query: { after: after?.id } },
            }),
          ),
        // Of many thousands the first are there to work with at once.
        (rows) => queries.setQueryData(queryKey, (before?: QuestionRow[]) => grown(before, rows)),
      ),
    enabled: recipe !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useAsked(question: number | null, text: string | null, beside: Beside) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  const { draft } = useDraft(recipe);
  const { error } = useDraftMeasured(draft);
  // A draft that cannot be asked leaves the question to the recipe in force.
  const body = error ? null : (draft?.body ?? null);
  return useQuery({
    queryKey: ["asked", workspace, recipe, trial, question, text, beside, body],
    queryFn: () =>
      body
        ? unwrap(
            client.POST("/api/workspaces/{workspace}/drafts/ask", {
              params: { path: { workspace } },
              body: {
                body: body as RecipeDocument,
                ...(question !== null ? { question } : { text: text ?? "" }),
                ...asParameters(beside),
              },
            }),
          )
        : question !== null
          ? unwrap(
              client.GET("/api/workspaces/{workspace}/questions/{question}", {
                params: { path: { workspace, question }, query: asParameters(beside) },
              }),
            )
          : unwrap(
              client.POST("/api/workspaces/{workspace}/ask", {
                params: { path: { workspace } },
                body: { text: text ?? "", ...asParameters(beside) },
              }),
            ),
    enabled: recipe !== undefined && (question !== null || text !== null),
    staleTime: Infinity,
  });
}

/** What this person typed before, the latest first. */
export function useAskedBefore() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["asked before", workspace],
    queryFn: () => unwrap(client.GET("/api/workspaces/{workspace}/ask", { params: { path: { workspace } } })),
  });
}

export function useDocuments() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["documents", workspace],
    queryFn: () =>
      allPages((after?: DocumentRow) =>
        unwrap(
          client.GET("/api/workspaces/{workspace}/documents", {
            params: { path: { workspace }, query: { after: after?.name } },
          }),
        ),
      ),
    staleTime: Infinity,
  });
}

export function useDocument(document: number | null) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["document", workspace, document],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/documents/{document}", {
          params: { path: { workspace, document: document ?? 0 } },
        }),
      ),
    enabled: document !== null,
    staleTime: Infinity,
  });
}

export function useDocumentView(document: number | null) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["document-view", workspace, document, recipe, trial],
    queryFn: () =>
      unwrap(
        client.GET("/api/workspaces/{workspace}/documents/{document}/answers", {
          params: { path: { workspace, document: document ?? 0 } },
        }),
      ),
    enabled: document !== null && recipe !== undefined,
  });
}

/** Builds and trials that wait or run, in the order in which the worker takes them. */
export const useTrialsToCome = () =>
  useJobs((jobs) => jobs.filter((job) => job.kind === "trial" && running(job)).reverse());

/** The newest job of a kind. */
export const useNewestJob = (kind: string) =>
  useJobs((jobs) => jobs.find((job) => job.kind === kind) ?? null);

function useJobs<T>(select: (jobs: Job[]) => T) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["jobs", workspace],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/jobs", { params: { path: { workspace } } })),
    select,
    refetchInterval: (query) => (query.state.data?.some(running) ? BUSY_EVERY : false),
  });
}

export function useTrials() {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  const toCome = useTrialsToCome().data?.length;
  return useQuery({
    queryKey: ["trials", workspace, recipe, trial, toCome],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/trials", { params: { path: { workspace } } })),
    enabled: toCome !== undefined,
    placeholderData: keepPreviousData,
  });
}

export function useStartTrial() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (recipe: number) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/trials", {
          params: { path: { workspace } },
          body: { recipe },
        }),
      ),
    onSuccess: () => jobsChanged(queries),
  });
}

const jobsChanged = (queries: QueryClient) =>
  Promise.all(["line", "jobs"].map((key) => queries.invalidateQueries({ queryKey: [key] })));

export function useCancelJob() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (job: number) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/jobs/{job}/cancel", {
          params: { path: { workspace, job } },
        }),
      ),
    onSuccess: () => jobsChanged(queries),
  });
}
