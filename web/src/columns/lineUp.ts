// Which passages of several lists are the same: those of a document that share at least half of the shorter one.
export interface Cell {
  document: number;
  start: number;
  end: number;
}

const shared = (one: Cell, other: Cell): number =>
  one.document === other.document ? Math.min(one.end, other.end) - Math.max(one.start, other.start) : 0;

const same = (one: Cell, other: Cell): boolean =>
  2 * shared(one, other) >= Math.min(one.end - one.start, other.end - other.start) && shared(one, other) > 0;

/** The number of the passage that each cell is, the same where it is the same; each list holds a passage once. */
export function lineUp(columns: Cell[][]): number[][] {
  const known: Cell[][] = [];
  return columns.map((cells) => {
    const taken = new Set<number>();
    return cells.map((cell) => {
      const found = known.findIndex(
        (group, at) => !taken.has(at) && group.some((other) => same(cell, other)),
      );
      const number = found >= 0 ? found : known.push([]) - 1;
      known[number]!.push(cell);
      taken.add(number);
      return number;
    });
  });
}

/** In how many lists each passage stands. */
export function held(columns: number[][]): Map<number, number> {
  const counts = new Map<number, number>();
  for (const numbers of columns)
    for (const number of new Set(numbers)) counts.set(number, (counts.get(number) ?? 0) + 1);
  return counts;
}
