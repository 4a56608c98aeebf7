// The server's API, typed by its own schema.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Workspace = Schemas["Workspace"];
export type Line = Schemas["Line"];
export type StageLevel = Schemas["StageLevel"];
export type QuestionRow = Schemas["QuestionRow"];
export type Asked = Schemas["Asked"];
export type StageTrace = Schemas["StageTrace"];
export type TracedChunk = Schemas["TracedChunk"];
export type Explained = Schemas["Explained"];
export type Job = Schemas["Job"];
export type Recipe = Schemas["Recipe"];
/** A recipe as the server knows it; kinds from packages may have settings that are not in these types. */
export type RecipeDocument = Schemas["RecipeDocument"];
export type Trial = Schemas["Trial"];
export type DocumentText = Schemas["Document"];
export type DocumentRow = Schemas["DocumentRow"];
export type Section = Schemas["Section"];
export type Mix = Schemas["Mix"];

let token: Promise<string> | undefined;

/** The token that the server wants with every request that changes something; asked for once. */
export const csrfToken = (): Promise<string> =>
  (token ??= fetch("/api/session")
    .then((answer) => answer.json())
    .then((session: Schemas["Session"]) => session.token)
    .catch((error: unknown) => {
      token = undefined;
      throw error;
    }));

export const client = createClient<paths>({ baseUrl: "" });

client.use({
  async onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", await csrfToken());
    return request;
  },
  onResponse({ response }) {
    if (response.status === 401) window.location.assign("/sign-in");
    return response;
  },
});

/** What the server refused, with its own sentence; status 409 means that indexes are not built. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
    /** Seconds after which the server wants to be asked again; null where it did not say. */
    readonly again: number | null = null,
  ) {
    super(message);
  }
}

const TRIES_WHILE_BUSY = 6;

/** Whether a read is tried again: while the server is busy or its database is coming back, some times; else once. */
export const tryAgain = (failures: number, error: Error): boolean =>
  error instanceof ApiError && (error.status === 429 || error.status === 503)
    ? failures < TRIES_WHILE_BUSY
    : failures < 1;

/** After how many milliseconds: when the server said, and else later and later. */
export const tryAfter = (failures: number, error: Error): number =>
  1000 * ((error instanceof ApiError && error.again) || Math.min(2 ** failures, 8));

const ROWS_A_PAGE = 1000;

/** All rows of a list that comes a page at a time. */
export async function allPages<T>(
  page: (after: T | undefined) => Promise<T[]>,
  /** Told what there is so far, while more is fetched. */
  soFar: (rows: T[]) => void = () => undefined,
): Promise<T[]> {
  const rows: T[] = [];
  for (;;) {
    const found = await page(rows.at(-1));
    rows.push(...found);
    if (found.length < ROWS_A_PAGE) return rows;
    soFar([...rows]);
  }
}

/** The answer's data, or an error with the server's own sentence. */
export async function unwrap<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  const { data, error, response } = await call;
  if (data !== undefined && response.ok) return data;
  const detail = (error as { detail?: string } | undefined)?.detail;
  throw new ApiError(
    response.status,
    detail ?? `The server answered with status ${response.status}. Reload, or look at its log.`,
    Number(response.headers.get("Retry-After")) || null,
  );
}

/** Waits for an answer that has no body; an error has the server's own sentence. */
export async function done(call: Promise<{ error?: unknown; response: Response }>): Promise<void> {
  const { error, response } = await call;
  if (response.ok) return;
  const detail = (error as { detail?: string } | undefined)?.detail;
  throw new ApiError(response.status, detail ?? `The server answered with status ${response.status}.`);
}

/** Sends a form with files, which the typed client does not. */
export async function sendForm<T>(path: string, form: FormData): Promise<T> {
  const headers = { "X-CSRFToken": await csrfToken() };
  const response = await fetch(path, { method: "POST", body: form, headers });
  const said = (await response.json().catch(() => null)) as (T & { detail?: string }) | null;
  if (response.ok && said) return said;
  throw new ApiError(response.status, said?.detail ?? `The server answered with status ${response.status}.`);
}
