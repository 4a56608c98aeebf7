// What a recipe needs to use a structure, and which of several measured ones are worth it.
export type Structure = { kind: string } & Record<string, unknown>;

export const METRICS: Record<string, string> = {
  cosine: "cosine",
  "inner-product": "inner product",
  euclidean: "Euclidean distance",
};

/** The recipe with this structure in its first dense branch. */
export function withStructure(body: Record<string, unknown>, structure: Structure): Record<string, unknown> {
  const copy = structuredClone(body);
  const branch = (copy.branches as { kind: string; structure: unknown }[]).find(
    ({ kind }) => kind === "vector",
  );
  if (branch) branch.structure = structure;
  return copy;
}

/** Points that no other beats in both speed and exactness, fastest last. */
export function frontier<T extends { recall: number; per_second: number }>(points: T[]): T[] {
  return points
    .filter(
      (point) =>
        !points.some(
          (other) =>
            other !== point &&
            other.recall >= point.recall &&
            other.per_second >= point.per_second &&
            (other.recall > point.recall || other.per_second > point.per_second),
        ),
    )
    .sort((a, b) => a.per_second - b.per_second);
}
