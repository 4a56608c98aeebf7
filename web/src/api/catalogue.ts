// The kinds that a recipe can name: lists, titles, settings and defaults for menus and editors come from the server.
import { useQuery } from "@tanstack/react-query";
import { client, unwrap, type Schemas } from "./client";

export type Kind = Schemas["Kind"];
/** A setting; those inside of an object have the same form. */
export type Setting = Omit<Schemas["Setting"], "inside"> & { inside: Setting[] };
export type Family = Omit<Schemas["Family"], "common"> & { common: Setting[] };
export interface Catalogue {
  families: Record<string, Family>;
  analysis: Setting[];
  /** What happens before the search. */
  question: Setting[];
  refused: Schemas["Refused"][];
}

const NONE: Catalogue = { families: {}, analysis: [], question: [], refused: [] };

export function useCatalogue(): Catalogue {
  const found = useQuery({
    queryKey: ["kinds"],
    queryFn: () => unwrap(client.GET("/api/kinds")),
    staleTime: Infinity,
  });
  return (found.data as Catalogue | undefined) ?? NONE;
}

/** A family by its name; one without kinds until the catalogue has come. */
export function useFamily(name: string): Family {
  return useCatalogue().families[name] ?? { name, key: "kind", common: [], kinds: [] };
}
