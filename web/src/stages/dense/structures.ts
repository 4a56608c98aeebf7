// What a recipe needs to use a structure, and which of several measured ones are worth it.
export type Structure = { kind: string } & Record<string, unknown>;

/** The recipe with this structure in a dense branch; in the first that has one where none is named. */
export function withStructure(
  body: Record<string, unknown>,
  branch: string | null,
  structure: Structure,
): Record<string, unknown> {
  const copy = structuredClone(body);
  const branches = copy.branches as { id: string; structure?: unknown }[];
  const found =
    branches.find(({ id }) => id === branch) ?? branches.find((one) => one.structure !== undefined);
  if (found) found.structure = structure;
  return copy;
}

/** The recipe with these settings in a branch, or in the first dense one that has them. */
export function withSettings(
  body: Record<string, unknown>,
  branch: string | null,
  settings: Record<string, unknown>,
): Record<string, unknown> {
  const copy = structuredClone(body);
  const branches = copy.branches as Record<string, unknown>[];
  const found =
    branches.find(({ id }) => id === branch) ??
    branches.find((one) => Object.keys(settings).every((name) => name in one));
  if (found) Object.assign(found, settings);
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
