// Words for structures and their settings, and what a recipe needs to use one.
export type Structure = { kind: string } & Record<string, unknown>;

export const STRUCTURES: Record<string, string> = {
  exact: "exact, float32",
  int8: "one byte a number (int8)",
  binary: "one bit a number (binary)",
  hnsw: "graph (HNSW)",
  ivf: "inverted lists (IVF)",
  pq: "product codes (PQ)",
};
export const METRICS: Record<string, string> = {
  cosine: "cosine",
  "inner-product": "inner product",
  euclidean: "Euclidean distance",
};

interface Setting {
  name: string;
  label: string;
  start: number;
  /** Whether the structure is built anew when it changes. */
  built: boolean;
}
const FETCH = (start: number): Setting => ({
  name: "over_fetch",
  label: "Over-fetch, times the depth",
  start,
  built: false,
});
export const SETTINGS: Record<string, Setting[]> = {
  exact: [],
  int8: [FETCH(2)],
  binary: [FETCH(10)],
  hnsw: [
    { name: "links", label: "Links a chunk", start: 16, built: true },
    { name: "breadth", label: "Breadth when built", start: 100, built: true },
    { name: "search", label: "Breadth of a search", start: 80, built: false },
    FETCH(2),
  ],
  ivf: [
    { name: "cells", label: "Cells, 0: by size", start: 0, built: true },
    { name: "probes", label: "Cells looked into", start: 16, built: false },
    FETCH(2),
  ],
  pq: [{ name: "parts", label: "Bytes a chunk", start: 48, built: true }, FETCH(10)],
};

export function startOf(kind: string): Structure {
  return { kind, ...Object.fromEntries((SETTINGS[kind] ?? []).map(({ name, start }) => [name, start])) };
}

/** The settings that trade speed for exactness, in a few words. */
export function described(structure: Structure): string {
  const { kind } = structure;
  const fetch = `${Number(structure.over_fetch)} times fetched`;
  if (kind === "hnsw") return `breadth ${Number(structure.search)}`;
  if (kind === "ivf") return `${Number(structure.probes)} cells`;
  return kind === "exact" ? "every vector" : fetch;
}

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
