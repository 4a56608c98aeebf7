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

type Fill = (family: string, part: RecipeBody) => RecipeBody;

/** A recipe whose parts have the settings that are younger than it. */
export function completed(body: RecipeBody, fill: Fill): RecipeBody {
  const part = (name: string) => (body[name] ?? {}) as RecipeBody;
  return {
    ...body,
    chunking: fill("chunking", part("chunking")),
    branches: (body.branches as RecipeBody[]).map((branch) => fill("branches", branch)),
    fusion: fill("fusion", part("fusion")),
    select: fill("selection", part("select")),
    rerank: body.rerank ?? null,
  };
}

const weightsOf = (body: RecipeBody) => ({
  ...((body.fusion as { weights?: Record<string, Json> }).weights ?? {}),
});
const withWeights = (body: RecipeBody, branches: Json[], weights: Record<string, Json>): RecipeBody => ({
  ...body,
  branches,
  fusion: { ...(body.fusion as RecipeBody), weights },
});

/** The recipe with one branch more, which counts as much as an even mix says. */
export function withBranch(body: RecipeBody, branch: RecipeBody): RecipeBody {
  return withWeights(body, [...(body.branches as Json[]), branch], {
    ...weightsOf(body),
    [String(branch.id)]: 1,
  });
}

/** The recipe without a branch and its weight. */
export function withoutBranch(body: RecipeBody, place: number): RecipeBody {
  const branches = body.branches as RecipeBody[];
  const weights = weightsOf(body);
  delete weights[String(branches[place]!.id)];
  return withWeights(
    body,
    branches.filter((_, at) => at !== place),
    weights,
  );
}

/** The recipe with another id for a branch, whose weight goes along. */
export function withBranchId(body: RecipeBody, place: number, id: string): RecipeBody {
  const branches = body.branches as RecipeBody[];
  const before = String(branches[place]!.id);
  const taken = branches.some((branch, at) => at !== place && branch.id === id);
  const weights = weightsOf(body);
  if (!taken) {
    weights[id] = weights[before] ?? 1;
    if (!branches.some((branch, at) => at !== place && branch.id === before) && before !== id)
      delete weights[before];
  }
  return withWeights(
    body,
    branches.map((branch, at) => (at === place ? { ...branch, id } : branch)),
    weights,
  );
}
