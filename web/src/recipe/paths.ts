// Reading and changing a field of a recipe by its path, such as `branches[1].depth`.
type Json = unknown;
export type RecipeBody = Record<string, Json>;

const steps = (path: string) => path.split(/[.[\]]+/).filter(Boolean);

export function field(body: Json, path: string): Json {
  return steps(path).reduce<Json>(
    (value, step) =>
      value === null || value === undefined ? undefined : (value as Record<string, Json>)[step],
    body,
  );
}

/** A copy of the body with the field at `path` set. */
export function withField(body: RecipeBody, path: string, value: Json): RecipeBody {
  const copy = structuredClone(body);
  const way = steps(path);
  let at = copy as Record<string, Json>;
  for (const step of way.slice(0, -1)) at = at[step] as Record<string, Json>;
  at[way[way.length - 1]!] = value;
  return copy;
}

/** The server's message split by field: `chunking.overlap: 200 is not below…; fusion.k: …`. */
export function problems(message: string): Record<string, string> {
  const found: Record<string, string> = {};
  for (const part of message.split("; ")) {
    const match = /^([a-z][\w.[\]-]*): (.*)$/.exec(part);
    if (match) found[match[1]!] = match[2]!;
  }
  return found;
}

const BRANCH: Record<string, Record<string, Json>> = {
  bm25: { variant: "okapi", k1: 1.2, b: 0.75, delta: null, mu: 1000, fields: null },
  vector: { metric: "cosine", structure: { kind: "exact" } },
};

/** A recipe whose branches have the settings that are younger than it. */
export function completed(body: RecipeBody): RecipeBody {
  const branches = (body.branches as { kind: string }[]).map((branch) => ({
    ...BRANCH[branch.kind],
    ...branch,
  }));
  return { ...body, branches };
}
