// Where a word stands in a document: ranges in code points, whatever the case.
import type { Range } from "../../text/codepoints";

const MOST = 500;

export function findAll(points: string[], words: string): Range[] {
  const wanted = Array.from(words.trim().toLowerCase());
  if (wanted.length < 2) return [];
  const low = points.map((sign) => sign.toLowerCase());
  const found: Range[] = [];
  for (let at = 0; at + wanted.length <= low.length && found.length < MOST; at++) {
    let same = 0;
    while (same < wanted.length && low[at + same] === wanted[same]) same++;
    if (same === wanted.length) {
      found.push({ start: at, end: at + same });
      at += same - 1;
    }
  }
  return found;
}

/** The page that an offset stands on; 0 where there are no pages. */
export function pageAt(blocks: { kind: string; start: number; level: number }[], offset: number): number {
  let page = 0;
  for (const block of blocks) if (block.kind === "page" && block.start <= offset) page = block.level;
  return page;
}
