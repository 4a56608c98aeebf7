// What the Serve page fetches and sends.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, csrfToken, done, unwrap, type Schemas } from "../api/client";
import { useWorkspace } from "../shell/workspace";

export type Published = Schemas["Published"];
export type Key = Schemas["Key"];
export type MadeKey = Schemas["MadeKey"];
export type NewKey = Schemas["NewKey"];
export type Figures = Schemas["Figures"];
export type Passage = Schemas["Passage"];
export type ToLabel = Schemas["ToLabel"];
type Found = Schemas["Found"];
type Sentence = Schemas["Sentence"];

const OPENING = 1000;
const LIVE = 5000;
const PATH = "/api/workspaces/{workspace}/published/{published}";
const at = (workspace: number, published: number) => ({ params: { path: { workspace, published } } });

export function usePublished() {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["published", workspace],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/published", { params: { path: { workspace } } })),
    refetchInterval: (query) => (query.state.data?.some(({ opening }) => opening > 0) ? OPENING : LIVE),
  });
}

export function useFigures(published: number, hours: number) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["served", workspace, published, hours],
    queryFn: () =>
      unwrap(
        client.GET(`${PATH}/figures`, {
          params: { path: { workspace, published }, query: { hours } },
        }),
      ),
    // A longer time changes more slowly, and takes longer to be read.
    refetchInterval: hours > 1 ? 6 * LIVE : LIVE,
  });
}

export function useToLabel(published: number) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["to-label", workspace, published],
    queryFn: () => unwrap(client.GET(`${PATH}/questions`, at(workspace, published))),
  });
}

/** Live questions beside the labelled ones; compared when somebody asks for it. */
export function useStrangers(published: number, wanted: boolean) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["strangers", workspace, published],
    queryFn: () => unwrap(client.GET(`${PATH}/strangers`, at(workspace, published))),
    enabled: wanted,
    staleTime: Infinity,
  });
}

/** A change of what is served; what is shown of it is read again after it. */
function useChange<G, T>(change: (workspace: number, given: G) => Promise<T>, more: string[] = []) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (given: G) => change(workspace, given),
    onSuccess: () =>
      Promise.all(["published", ...more].map((name) => queries.invalidateQueries({ queryKey: [name] }))),
  });
}

export const usePublish = () =>
  useChange((workspace, body: Schemas["Publish"]) =>
    unwrap(client.POST("/api/workspaces/{workspace}/published", { params: { path: { workspace } }, body })),
  );

export const useTakeDown = () =>
  useChange((workspace, published: number) => done(client.DELETE(PATH, at(workspace, published))));

export const useRelease = (published: number) =>
  useChange((workspace, body: Schemas["ReleaseGiven"]) =>
    unwrap(client.POST(`${PATH}/release`, { ...at(workspace, published), body })),
  );

export const usePutBeside = (published: number) =>
  useChange((workspace, body: Schemas["BesideGiven"]) =>
    unwrap(client.POST(`${PATH}/beside`, { ...at(workspace, published), body })),
  );

export const useKeep = (published: number) =>
  useChange(
    (workspace, body: { keep_days: number; redact: string[] }) =>
      unwrap(client.PATCH(PATH, { ...at(workspace, published), body })),
    ["to-label"],
  );

export const useMakeKey = (published: number) =>
  useChange((workspace, body: NewKey) =>
    unwrap(client.POST(`${PATH}/keys`, { ...at(workspace, published), body })),
  );

export const useTakeKeyBack = (published: number) =>
  useChange((workspace, key: number) =>
    done(client.DELETE(`${PATH}/keys/{key}`, { params: { path: { workspace, published, key } } })),
  );

export const useTake = (published: number) =>
  useChange(
    (workspace, requests: string[]) =>
      unwrap(client.POST(`${PATH}/questions`, { ...at(workspace, published), body: { requests } })),
    ["to-label", "questions", "sets", "line"],
  );

export const useSay = (published: number) =>
  useChange(
    (workspace, body: Schemas["Feedback"]) =>
      done(client.POST(`${PATH}/say`, { ...at(workspace, published), body })),
    ["to-label", "questions", "sets", "served", "line"],
  );

/** An exchange as it grows: the passages first, then sentence by sentence, then how it ended. */
export interface Exchange {
  question: string;
  found: Found | null;
  sentences: Sentence[];
  /** Why nothing is answered; null while it still may be. */
  ended: string | null;
  problem: string;
  seconds: number | null;
}

export const begun = (question: string): Exchange => ({
  question,
  found: null,
  sentences: [],
  ended: null,
  problem: "",
  seconds: null,
});

/** The events of a stream of server-sent events; whatever is not whole yet is handed back. */
export function eventsIn(text: string): [events: [name: string, data: unknown][], rest: string] {
  const blocks = text.split("\n\n");
  const rest = blocks.pop() ?? "";
  const events = blocks.map((block): [string, unknown] => {
    const lines = block.split("\n");
    const field = (name: string) =>
      lines.find((line) => line.startsWith(`${name}: `))?.slice(name.length + 2) ?? "";
    return [field("event"), JSON.parse(field("data") || "null")];
  });
  return [events, rest];
}

/** What an event makes of an exchange. */
export function after(exchange: Exchange, name: string, data: unknown): Exchange {
  if (name === "passages") return { ...exchange, found: data as Found };
  if (name === "sentence") return { ...exchange, sentences: [...exchange.sentences, data as Sentence] };
  if (name === "problem") return { ...exchange, ended: "", problem: (data as { detail: string }).detail };
  if (name !== "end") return exchange;
  const { silent, seconds } = data as { silent: string; seconds: Record<string, number> };
  return { ...exchange, ended: silent, seconds: seconds["all"] ?? null };
}

/** Ask as an assistant's user would; `told` gets the exchange whenever something comes. */
export async function converse(
  workspace: number,
  published: number,
  question: string,
  told: (exchange: Exchange) => void,
): Promise<void> {
  let exchange = begun(question);
  const tell = (next: Exchange) => told((exchange = next));
  tell(exchange);
  const response = await fetch(`/api/workspaces/${workspace}/published/${published}/ask`, {
    method: "POST",
    headers: { "Content-Type": "application/json", "X-CSRFToken": await csrfToken() },
    body: JSON.stringify({ question, stream: true }),
  });
  if (!response.ok || !response.body) {
    const said = (await response.json().catch(() => null)) as { detail?: string } | null;
    tell({ ...exchange, ended: "", problem: said?.detail ?? `The server answered with ${response.status}.` });
    return;
  }
  if (!response.headers.get("Content-Type")?.startsWith("text/event-stream")) {
    const body = (await response.json()) as Schemas["ServedAnswer"];
    tell({
      ...exchange,
      found: body,
      sentences: body.sentences,
      ended: body.silent,
      seconds: body.seconds["all"] ?? null,
    });
    return;
  }
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let held = "";
  for (;;) {
    const { value, done: over } = await reader.read();
    if (over) break;
    const [events, rest] = eventsIn(held + value);
    held = rest;
    for (const [name, data] of events) tell(after(exchange, name, data));
  }
  if (exchange.ended === null) tell({ ...exchange, ended: "", problem: "The answer broke off." });
}
