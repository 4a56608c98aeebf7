// What a setting alone does: over all that was tried with each of its values.
import type { Moved, SweepRow } from "./api";

export interface Marginal {
  value: unknown;
  low: number;
  high: number;
  mean: number;
  count: number;
}

/** Of each value of a setting the worst, the mean and the best over the other settings; larger is better. */
export function marginals(rows: SweepRow[], axis: Moved): Marginal[] {
  return axis.values.flatMap((value) => {
    const own = rows.flatMap((row) =>
      row.mean !== null && JSON.stringify(row.settings[axis.path]) === JSON.stringify(value)
        ? [row.mean]
        : [],
    );
    return own.length
      ? [
          {
            value,
            low: Math.min(...own),
            high: Math.max(...own),
            mean: own.reduce((a, b) => a + b, 0) / own.length,
            count: own.length,
          },
        ]
      : [];
  });
}

/** Settings in the order of how much they move the figure, the largest first. */
export function byReach(rows: SweepRow[], moved: Moved[]): Moved[] {
  const reach = (axis: Moved) => {
    const means = marginals(rows, axis).map(({ mean }) => mean);
    return means.length ? Math.max(...means) - Math.min(...means) : 0;
  };
  return [...moved].sort((a, b) => reach(b) - reach(a));
}
