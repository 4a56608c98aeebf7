// What is said of a kind, and how its settings start: from what the server declares.
import type { Kind } from "../api/catalogue";

/** The settings of a kind as they start. */
export function startOf(kind: Kind): Record<string, unknown> {
  return Object.fromEntries(kind.settings.map((setting) => [setting.name, setting.default]));
}

/** What a kind is called; its name where it is not known any more. */
export function titleOf(kinds: Kind[], name: string): string {
  return kinds.find((kind) => kind.name === name)?.title ?? name;
}

/** The settings of a kind in a few words: `breadth 80`. */
export function summaryOf(kinds: Kind[], name: string, settings: Record<string, unknown>): string {
  const summary = kinds.find((kind) => kind.name === name)?.summary ?? "";
  return summary.replace(/\{(\w+)\}/g, (_, setting: string) => String(settings[setting]));
}
