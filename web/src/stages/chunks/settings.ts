// The settings of a way of cutting in words, and how they move together; what there is the server declares.
import type { Family, Kind, Setting } from "../../api/catalogue";

export interface Chunking extends Record<string, unknown> {
  rule: string;
  unit: string;
  size: number;
  overlap: number;
  minimum?: number;
  context?: string;
  host?: { size: number } | null;
}

const ruleOf = (rules: Family, rule: string): Kind | undefined =>
  rules.kinds.find(({ name }) => name === rule);

/** What an overlap counts under a rule: the unit, or sentences. */
export const overlapUnit = (rules: Family, rule: string, unit: string): string =>
  ruleOf(rules, rule)?.facts.overlap_in === "sentences" ? "sentences" : unit;

/** The settings that a rule has beside those of all rules. */
export function ownSettings(rules: Family, rule: string): Setting[] {
  const common = rules.common.map(({ name }) => name);
  return ((ruleOf(rules, rule)?.settings ?? []) as Setting[]).filter(({ name }) => !common.includes(name));
}

const startOf = (settings: Setting[]) =>
  Object.fromEntries(settings.filter(({ required }) => !required).map((one) => [one.name, one.default]));

/** Settings with everything that an older recipe leaves out. */
export const full = (rules: Family, chunking: Chunking): Chunking => ({
  ...startOf(rules.common),
  ...startOf(ownSettings(rules, chunking.rule)),
  ...(Object.fromEntries(Object.entries(chunking).filter(([, value]) => value !== undefined)) as Chunking),
});

/** The same settings under another rule: what only the old one has goes, what the new one needs comes. */
export function withRule(rules: Family, chunking: Chunking, rule: string): Chunking {
  const kept = Object.fromEntries(rules.common.map(({ name }) => [name, chunking[name]]));
  const by = overlapUnit(rules, rule, "units");
  const counted = by === overlapUnit(rules, chunking.rule, "units");
  const overlap = counted ? chunking.overlap : by === "sentences" ? 1 : Math.floor(chunking.size / 8);
  return full(rules, { ...kept, rule, overlap } as Chunking);
}

const titled = (settings: Setting[], name: string, value: unknown): string =>
  settings.find((one) => one.name === name)?.choices.find((one) => one.value === value)?.title ??
  String(value);

/** One sentence of words and numbers. */
export function described(rules: Family, chunking: Chunking): string {
  const { rule, unit, size, overlap } = chunking;
  const kind = ruleOf(rules, rule);
  const own = ownSettings(rules, rule);
  const parts = [`${kind?.title ?? rule}, up to ${size} ${unit}`];
  parts.push(overlap ? `overlap ${overlap} ${overlapUnit(rules, rule, unit)}` : "no overlap");
  const whole = full(rules, chunking);
  if (kind?.summary)
    parts.push(kind.summary.replace(/\{(\w+)\}/g, (_, name: string) => titled(own, name, whole[name])));
  if (chunking.minimum) parts.push(`at least ${chunking.minimum}`);
  if (chunking.context && chunking.context !== "none")
    parts.push(`indexed with ${titled(rules.common, "context", chunking.context)}`);
  if (chunking.host) parts.push(`in hosts of ${chunking.host.size}`);
  return parts.join(", ");
}

export const same = (rules: Family, one: Chunking, other: Chunking) =>
  JSON.stringify(Object.entries(full(rules, one)).sort()) ===
  JSON.stringify(Object.entries(full(rules, other)).sort());
