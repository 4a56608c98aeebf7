// A draft: a recipe that is not kept, beside the one in force. It lives as long as the page.
import { createContext, useContext } from "react";
import { useQuery } from "@tanstack/react-query";
import { ApiError, client, unwrap, type RecipeDocument, type Schemas } from "../api/client";
import { useWorkspace } from "../shell/workspace";
import type { RecipeBody } from "../recipe/paths";

export type Measured = Schemas["Draft"];

export interface Draft {
  /** The recipe that it is a draft of. */
  recipe: number;
  body: RecipeBody;
  /** What is changed, a line each. */
  changes: string[];
}

export interface DraftState {
  draft: Draft | null;
  set: (draft: Draft | null) => void;
}

export const DraftContext = createContext<DraftState>({ draft: null, set: () => {} });

/** The draft of the recipe in force; one of another recipe does not count. */
export function useDraft(recipe: number | undefined): DraftState {
  const { draft, set } = useContext(DraftContext);
  return { draft: draft && draft.recipe === recipe ? draft : null, set };
}

const NEEDS_BUILDING = 409;

/** All labelled questions under the draft, as far as they have been asked; it goes on until all are. */
export function useDraftMeasured(draft: Draft | null) {
  const workspace = useWorkspace();
  return useQuery({
    queryKey: ["draft", workspace, draft?.recipe, draft?.body],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/drafts", {
          params: { path: { workspace } },
          body: { body: draft?.body as RecipeDocument, recipe: draft?.recipe },
        }),
      ),
    enabled: draft !== null,
    retry: false,
    staleTime: Infinity,
    // What is found lies in one of several servers: the one that is asked next may know less.
    structuralSharing: (before, now) => further(before as Measured | undefined, now as Measured),
    refetchInterval: ({ state }) =>
      state.data && state.data.measured < state.data.questions && !state.error ? 200 : false,
  });
}

const further = (before: Measured | undefined, now: Measured): Measured =>
  before && before.measured > now.measured ? before : now;

/** Whether something of the draft would have to be built first. */
export const mustBuild = (error: unknown): boolean =>
  error instanceof ApiError && error.status === NEEDS_BUILDING;

/** What differs between two recipes, by path: `select.k: 5 → 8`. */
export function differences(before: unknown, now: unknown, path = ""): string[] {
  if (JSON.stringify(before) === JSON.stringify(now)) return [];
  const open = (value: unknown): value is Record<string, unknown> =>
    typeof value === "object" && value !== null;
  if (!open(before) || !open(now) || Array.isArray(before) !== Array.isArray(now))
    return [`${path}: ${told(before)} → ${told(now)}`];
  const keys = [...new Set([...Object.keys(before), ...Object.keys(now)])];
  return keys.flatMap((key) =>
    differences(
      before[key],
      now[key],
      Array.isArray(now) ? `${path}[${key}]` : path ? `${path}.${key}` : key,
    ),
  );
}

const told = (value: unknown): string =>
  value === undefined || value === null ? "none" : typeof value === "string" ? value : JSON.stringify(value);
