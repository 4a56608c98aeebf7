// Offsets from the server count code points; the browser counts UTF-16 units.

/** Text as an array that is indexed by code point. */
export function codePoints(text: string): string[] {
  return Array.from(text);
}

export interface Range {
  start: number;
  end: number;
}

export interface Piece {
  text: string;
  start: number;
  kinds: string[];
}

/** Cut `[start, end)` of a text where any of the labelled ranges begins or ends; `kinds` names those that cover a piece. */
export function pieces(
  points: string[],
  start: number,
  end: number,
  ranges: (Range & { kind: string })[],
): Piece[] {
  const touching = ranges.filter((range) => range.start < end && range.end > start);
  const edges = new Set([start, end]);
  for (const range of touching) {
    if (range.start > start) edges.add(range.start);
    if (range.end < end) edges.add(range.end);
  }
  const sorted = [...edges].sort((a, b) => a - b);
  return sorted.slice(0, -1).map((from, place) => {
    const to = sorted[place + 1]!;
    const kinds = touching
      .filter((range) => range.start <= from && range.end >= to)
      .map((range) => range.kind);
    return { text: points.slice(from, to).join(""), start: from, kinds: [...new Set(kinds)] };
  });
}
