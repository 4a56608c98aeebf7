// What is said of a kind, how its settings start, and how a part of a recipe turns to another kind: all from what
// the server declares.
import type { Catalogue, Family, Kind, Setting } from "../api/catalogue";

export type Values = Record<string, unknown>;

/** The kind of that name; none where it is not known any more. */
export const kindOf = (family: Family, name: unknown): Kind | undefined =>
  family.kinds.find((kind) => kind.name === name);

/** What a kind is called; its name where it is not known any more. */
export const titleOf = (family: Family, name: string): string => kindOf(family, name)?.title ?? name;

/** The settings of a kind: those of all of its family where it has none of that name, and its own. */
export function settingsOf(family: Family, kind: Kind | undefined): Setting[] {
  const own = (kind?.settings ?? []) as Setting[];
  const names = own.map((setting) => setting.name);
  return [...family.common.filter((setting) => !names.includes(setting.name)), ...own];
}

/** Settings as they start; those that have to be given are left out. */
export function startOf(settings: Setting[]): Values {
  return Object.fromEntries(
    settings
      .filter((setting) => !setting.required)
      .map((setting) => [
        setting.name,
        setting.type === "group" && !setting.optional ? startOf(setting.inside) : setting.default,
      ]),
  );
}

/** An object that is switched on: defaults, and for a number that has none, three times the one of that name around it. */
export function begun(setting: Setting, around: Values): Values {
  const given = setting.inside.flatMap((one): [string, unknown][] => {
    if (one.type === "group" && !one.optional) return [[one.name, startOf(one.inside)]];
    if (!one.required) return [];
    const near = around[one.name];
    return [[one.name, typeof near === "number" ? Math.max(3 * near, one.low ?? 0) : (one.low ?? 0)]];
  });
  return { ...startOf(setting.inside), ...Object.fromEntries(given) };
}

/** A part of a recipe with the settings that are younger than it, those of kinds that it names included. */
export function filled(catalogue: Catalogue, name: string, values: Values): Values {
  const family = catalogue.families[name];
  if (!family) return values;
  const named: Values = { [family.key]: family.kinds[0]?.name, ...values };
  return withKinds(catalogue, settingsOf(family, kindOf(family, named[family.key])), named);
}

/** Settings that stand together, those that are younger included, and those of kinds that they name. */
export function withKinds(catalogue: Catalogue, settings: Setting[], values: Values): Values {
  const whole: Values = { ...startOf(settings), ...values };
  for (const setting of settings) {
    if (setting.type === "kind")
      whole[setting.name] = filled(catalogue, setting.kinds, (whole[setting.name] ?? {}) as Values);
    if (setting.type === "kinds")
      whole[setting.name] = ((whole[setting.name] ?? []) as Values[]).map((one) =>
        filled(catalogue, setting.kinds, one),
      );
  }
  return whole;
}

/** The same part under another kind: what only the old one has goes, what the new one needs comes. */
export function turned(catalogue: Catalogue, name: string, values: Values, to: string): Values {
  const family = catalogue.families[name]!;
  const before = settingsOf(family, kindOf(family, values[family.key]));
  const now = settingsOf(family, kindOf(family, to));
  const same = (setting: Setting) =>
    before.some((old) => old.name === setting.name && old.title === setting.title && setting.name in values);
  const gone = before.filter(
    (old) => !now.some(same) || !now.find((one) => one.name === old.name && same(one)),
  );
  const kept = Object.fromEntries(
    Object.entries(values).filter(([key]) => !gone.some((setting) => setting.name === key)),
  );
  return filled(catalogue, name, { ...startOf(now), ...kept, [family.key]: to });
}

/** Whether a setting does anything beside the others as they are. */
export const applies = (setting: Setting, values: Values): boolean =>
  Object.entries(setting.when).every(([name, wanted]) => {
    const value = String(values[name]);
    // "any" stands for all but an empty one.
    return wanted.includes(value) || (wanted.includes("any") && value !== "");
  });

/** The settings of a kind in a few words: `ef 80`. */
export function summaryOf(family: Family, name: string, settings: Values): string {
  const summary = kindOf(family, name)?.summary ?? "";
  return summary.replace(/\{(\w+)\}/g, (_, setting: string) => String(settings[setting]));
}

/** What people read for the value of a setting. */
export function choiceTitle(settings: Setting[], name: string, value: unknown): string {
  const setting = settings.find((one) => one.name === name);
  return setting?.choices.find((choice) => choice.value === value)?.title ?? String(value);
}
