// Which range of the text a part of a page is, and where on its page a range stands.
import type { Schemas } from "../api/client";

/** Left, top, right and bottom as shares of the page. */
export type Box = readonly [number, number, number, number];
type Standing = Pick<Schemas["PageStanding"], "lines" | "pictures">;
type Line = Standing["lines"][number];

export interface Range {
  start: number;
  end: number;
}

const boxOf = (place: readonly number[]): Box => [place[0] ?? 0, place[1] ?? 0, place[2] ?? 0, place[3] ?? 0];
const area = ([left, top, right, bottom]: Box) => Math.max(right - left, 0) * Math.max(bottom - top, 0);
const shared = (a: Box, b: Box) =>
  area([Math.max(a[0], b[0]), Math.max(a[1], b[1]), Math.min(a[2], b[2]), Math.min(a[3], b[3])]);

/** The words of a line that lie in a box, and of a row all of it; nothing where none does. */
function within(line: Line, box: Box, text: readonly string[]): Range | null {
  const [left, top, right, bottom] = boxOf(line.place);
  const middle = (top + bottom) / 2;
  if (middle < box[1] || middle > box[3] || right <= box[0] || left >= box[2]) return null;
  if (line.whole) return { start: line.start, end: line.end };
  const length = line.end - line.start;
  const at = (x: number) => line.start + Math.round(((x - left) / Math.max(right - left, 1e-9)) * length);
  let start = Math.max(line.start, at(box[0]));
  let end = Math.min(line.end, at(box[2]));
  // A word is in where its middle is.
  const word = (place: number) => {
    let [from, to] = [place, place];
    while (from > line.start && !isBlank(text[from - 1])) from -= 1;
    while (to < line.end && !isBlank(text[to])) to += 1;
    return { from, to };
  };
  if (start > line.start && !isBlank(text[start - 1]) && !isBlank(text[start])) {
    const { from, to } = word(start);
    start = start <= (from + to) / 2 ? from : to;
  }
  if (end < line.end && !isBlank(text[end - 1]) && !isBlank(text[end])) {
    const { from, to } = word(end);
    end = end >= (from + to) / 2 ? to : from;
  }
  while (start < end && isBlank(text[start])) start += 1;
  while (end > start && isBlank(text[end - 1])) end -= 1;
  return end > start ? { start, end } : null;
}

const isBlank = (sign: string | undefined) => sign === undefined || /\s/.test(sign);

/** The range of the text that stands in a part of a page: from its first word to its last, or what stands for the
 * picture that lies there; nothing where there is neither. `text` are the code points of the document. */
export function rangeOf(box: Box, standing: Standing, text: readonly string[]): Range | null {
  const ranges = standing.lines.flatMap((line) => within(line, box, text) ?? []);
  for (const picture of standing.pictures) {
    const place = boxOf(picture.place);
    if (shared(place, box) >= 0.5 * Math.min(area(place), area(box)) && picture.end > picture.start)
      ranges.push({ start: picture.start, end: picture.end });
  }
  if (!ranges.length) return null;
  return {
    start: Math.min(...ranges.map((range) => range.start)),
    end: Math.max(...ranges.map((range) => range.end)),
  };
}

/** Where ranges of the text stand on the page: a box for each line that holds any of one. */
export function boxesOf(ranges: readonly Range[], standing: Standing): Box[] {
  const found: Box[] = [];
  for (const line of standing.lines) {
    const [left, top, right, bottom] = boxOf(line.place);
    for (const range of ranges) {
      if (range.start >= line.end || range.end <= line.start) continue;
      const length = Math.max(line.end - line.start, 1);
      const at = (place: number) => left + ((right - left) * (place - line.start)) / length;
      const from = line.whole ? left : at(Math.max(range.start, line.start));
      const to = line.whole ? right : at(Math.min(range.end, line.end));
      found.push([from, top, to, bottom]);
    }
  }
  for (const picture of standing.pictures)
    if (ranges.some((range) => range.start <= picture.start && range.end >= picture.end))
      found.push(boxOf(picture.place));
  return found;
}
