// Reranking in a recipe, and what a floor would drop: pure functions.

/** The shortlist of one question, best first. */
export interface FloorQuestion {
  answerable: boolean;
  scores: number[];
  relevant: boolean[];
}

type Body = Record<string, unknown>;

/** A recipe with some settings of its reranking changed. */
export function withRerank(body: Body, change: Record<string, unknown>): Body {
  return { ...body, rerank: { ...(body.rerank as Body), ...change } };
}

export interface UnderFloor {
  /** Shortlisted chunks under the floor, and all there are. */
  hits: number;
  all: number;
  /** Answerable questions whose answer goes on without a floor, and those of them that lose it. */
  delivered: number;
  lost: number;
  /** Questions without an answer, and those of them that nothing is left for. */
  unanswerable: number;
  empty: number;
}

/** What a floor does over all questions; the first k of each shortlist go on. */
export function underFloor(questions: FloorQuestion[], floor: number, k: number): UnderFloor {
  const found = { hits: 0, all: 0, delivered: 0, lost: 0, unanswerable: 0, empty: 0 };
  for (const { answerable, scores, relevant } of questions) {
    found.all += scores.length;
    found.hits += scores.filter((score) => score < floor).length;
    if (!answerable) {
      found.unanswerable += 1;
      if (scores.slice(0, k).every((score) => score < floor)) found.empty += 1;
      continue;
    }
    const first = relevant.slice(0, k);
    if (first.includes(true)) {
      found.delivered += 1;
      if (!first.some((is, row) => is && scores[row]! >= floor)) found.lost += 1;
    }
  }
  return found;
}

/** Counts of scores in equal steps from low to high; what lies outside counts in the outer steps. */
export function binned(scores: number[], low: number, high: number, steps: number): number[] {
  const counts = new Array<number>(steps).fill(0);
  for (const score of scores) {
    const step = Math.floor(((score - low) / Math.max(high - low, 1e-9)) * steps);
    counts[Math.min(Math.max(step, 0), steps - 1)]! += 1;
  }
  return counts;
}

/** Moves from one rank to another with how many questions made each, fewest first, so that the common lie on top. */
export function moves(pairs: [from: number, to: number][]): { from: number; to: number; count: number }[] {
  const counts = new Map<string, { from: number; to: number; count: number }>();
  for (const [from, to] of pairs) {
    const key = `${from} ${to}`;
    const row = counts.get(key) ?? { from, to, count: 0 };
    counts.set(key, { ...row, count: row.count + 1 });
  }
  return [...counts.values()].sort((a, b) => a.count - b.count);
}

/** Pasted passages: a blank line stands between two. */
export function passagesOf(text: string): string[] {
  return text
    .split(/\n\s*\n/)
    .map((part) => part.trim())
    .filter(Boolean);
}
