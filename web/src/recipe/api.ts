// Hooks for recipes: saved, put in force, and what they would cost to build.
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, unwrap, type RecipeDocument } from "../api/client";
import { useStamp } from "../api/queries";
import { useWorkspace } from "../shell/workspace";

export function useRecipes() {
  const workspace = useWorkspace();
  const [recipe] = useStamp();
  return useQuery({
    queryKey: ["recipes", workspace, recipe],
    queryFn: () =>
      unwrap(client.GET("/api/workspaces/{workspace}/recipes", { params: { path: { workspace } } })),
  });
}

/** `saved` is called before the screen reads everything anew: what called it may be gone by then. */
export function useSaveRecipe(saved: () => void) {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ body, note }: { body: unknown; note: string }) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/recipes/save", {
          params: { path: { workspace } },
          // Whatever is wrong with it the server says, field by field.
          body: { body: body as RecipeDocument, note },
        }),
      ),
    onSuccess: () => {
      saved();
      return queries.invalidateQueries();
    },
  });
}

export function usePutInForce() {
  const workspace = useWorkspace();
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (recipe: number) =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/recipes/{recipe}/in-force", {
          params: { path: { workspace, recipe } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries(),
  });
}

export function useEncoders() {
  return useQuery({ queryKey: ["encoders"], queryFn: () => unwrap(client.GET("/api/encoders")) });
}

/** What building a recipe would take; a body with mistakes has no cost. */
export function useCost(body: unknown) {
  const workspace = useWorkspace();
  const [recipe, trial] = useStamp();
  return useQuery({
    queryKey: ["cost", workspace, recipe, trial, body],
    queryFn: () =>
      unwrap(
        client.POST("/api/workspaces/{workspace}/recipes/cost", {
          params: { path: { workspace } },
          body: { body: body as RecipeDocument },
        }),
      ),
    retry: false,
    staleTime: 60_000,
    placeholderData: keepPreviousData,
  });
}
