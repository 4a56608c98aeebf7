// The kinds that a recipe can name: lists, titles, settings and defaults for menus and editors come from the server.
import { useQuery } from "@tanstack/react-query";
import { client, unwrap, type Schemas } from "./client";

export type Kind = Schemas["Kind"];
export type Catalogue = Schemas["Catalogue"];

const NONE: Catalogue = { fusion: [], structures: [] };

export function useCatalogue(): Catalogue {
  const found = useQuery({
    queryKey: ["kinds"],
    queryFn: () => unwrap(client.GET("/api/kinds")),
    staleTime: Infinity,
  });
  return found.data ?? NONE;
}
