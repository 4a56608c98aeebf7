// The settings of a way of cutting: what each rule has, and how it is said in words.
export interface Chunking {
  rule: string;
  unit: string;
  size: number;
  overlap: number;
  minimum?: number;
  context?: string;
  host?: { size: number } | null;
  level?: number;
  signal?: string;
  window?: number;
  sensitivity?: number;
}

export const RULES: Record<string, string> = {
  "natural-breaks": "natural breaks",
  "fixed-window": "fixed window",
  "sentence-groups": "sentence groups",
  outline: "outline",
  "topic-shift": "topic shift",
  rows: "one chunk a row",
};
export const UNITS: Record<string, string> = {
  tokens: "tokens",
  words: "words",
  characters: "characters",
};
export const CONTEXTS: Record<string, string> = {
  none: "nothing",
  title: "title",
  path: "title and sections",
};
const OWN: Record<string, Partial<Chunking>> = {
  outline: { level: 2 },
  "topic-shift": { signal: "terms", window: 3, sensitivity: 0.5 },
};
const BY_SENTENCE = ["sentence-groups", "topic-shift"];

export const overlapUnit = (rule: string, unit: string) => (BY_SENTENCE.includes(rule) ? "sentences" : unit);

/** The same settings under another rule: what only the old one has goes, what the new one needs comes. */
export function withRule(chunking: Chunking, rule: string): Chunking {
  const { unit, size, minimum, context, host } = chunking;
  const counted = BY_SENTENCE.includes(rule) === BY_SENTENCE.includes(chunking.rule);
  const overlap = counted ? chunking.overlap : BY_SENTENCE.includes(rule) ? 1 : Math.floor(size / 8);
  return { rule, unit, size, overlap, minimum, context, host, ...OWN[rule] };
}

/** One sentence of words and numbers. */
export function described(chunking: Chunking): string {
  const { rule, unit, size, overlap } = chunking;
  const parts = [`${RULES[rule] ?? rule}, up to ${size} ${unit}`];
  parts.push(overlap ? `overlap ${overlap} ${overlapUnit(rule, unit)}` : "no overlap");
  if (rule === "outline") parts.push(`headings to level ${chunking.level ?? 2}`);
  if (rule === "topic-shift") parts.push(`by ${chunking.signal ?? "terms"}`);
  if (chunking.minimum) parts.push(`at least ${chunking.minimum}`);
  if (chunking.context && chunking.context !== "none")
    parts.push(`indexed with ${CONTEXTS[chunking.context]}`);
  if (chunking.host) parts.push(`in hosts of ${chunking.host.size}`);
  return parts.join(", ");
}

export const same = (one: Chunking, other: Chunking) =>
  JSON.stringify(Object.entries(full(one)).sort()) === JSON.stringify(Object.entries(full(other)).sort());

const full = (chunking: Chunking) => ({
  minimum: 0,
  context: "none",
  host: null,
  ...OWN[chunking.rule],
  ...Object.fromEntries(Object.entries(chunking).filter(([, value]) => value !== undefined)),
});
