// Which documents are shown: by words of title and name, and by one condition on the metadata.
import type { DocumentRow } from "../../api/client";

export type Test = "is" | "from" | "to";
export interface Condition {
  key: string;
  test: Test;
  value: string;
}

/** Keys of the metadata, the most frequent first, each with its kind and its values. */
export function facets(rows: DocumentRow[]): { key: string; kind: string; values: string[] }[] {
  const found = new Map<string, { kind: string; count: number; values: Set<string> }>();
  for (const row of rows)
    for (const { key, kind, value } of row.metadata) {
      const facet = found.get(key) ?? { kind, count: 0, values: new Set<string>() };
      facet.count += 1;
      for (const one of Array.isArray(value) ? value : [value]) facet.values.add(String(one));
      found.set(key, facet);
    }
  return [...found]
    .sort(([a, one], [b, other]) => other.count - one.count || a.localeCompare(b))
    .map(([key, { kind, values }]) => ({ key, kind, values: [...values].sort(inOrder(kind)) }));
}

const inOrder = (kind: string) => (a: string, b: string) =>
  kind === "number" ? Number(a) - Number(b) : a.localeCompare(b);

/** Rows whose title or name holds every typed word and whose metadata meets the condition. */
export function filtered(rows: DocumentRow[], words: string, condition: Condition | null): DocumentRow[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  return rows.filter((row) => {
    const text = `${row.title} ${row.name}`.toLowerCase();
    return wanted.every((word) => text.includes(word)) && (!condition || meets(row, condition));
  });
}

function meets(row: DocumentRow, { key, test, value }: Condition): boolean {
  const entry = row.metadata.find((one) => one.key === key);
  if (!entry) return false;
  if (!value) return true;
  if (Array.isArray(entry.value)) return entry.value.map(String).includes(value);
  if (test === "is") return String(entry.value) === value;
  const order = entry.kind === "number" ? Number(entry.value) - Number(value) : compare(entry.value, value);
  return test === "from" ? order >= 0 : order <= 0;
}

const compare = (a: unknown, b: string) => (String(a) < b ? -1 : String(a) > b ? 1 : 0);

/** A value of the metadata for people. */
export const shownValue = (value: unknown): string =>
  Array.isArray(value) ? value.join(", ") : String(value);
