// How dark patches of a page are drawn: by how well they answer one word of a question, or any of its words.
import type { Schemas } from "../../api/client";

type Match = Pick<Schemas["PatchMatch"], "token" | "weight" | "best" | "cosines">;

export interface Word {
  token: string;
  weight: number;
  /** Patches that it likes best, with what each weighs; several where a word is in pieces. */
  best: { patch: number; weight: number }[];
  /** The mean of those of its best patches, by weight. */
  cosine: number;
  cosines: number[];
}

/** What continues a word begins so. */
const GOES_ON = "##";
const PICTURE = "picture";

/** Tokens as words: the pieces of one, and all patches of a picture that is asked by, are together. */
export function grouped(matches: readonly Match[]): Word[] {
  const found: { name: string; parts: Match[] }[] = [];
  for (const match of matches) {
    const last = found[found.length - 1];
    const goesOn = match.token.startsWith(GOES_ON);
    const same = match.token === PICTURE && last?.parts[0]?.token === PICTURE;
    if (last && (goesOn || same)) {
      last.parts.push(match);
      if (goesOn) last.name += match.token.slice(GOES_ON.length);
    } else found.push({ name: match.token, parts: [match] });
  }
  return found.map(({ name, parts }) => {
    const weight = parts.reduce((sum, one) => sum + one.weight, 0);
    const mean = (of: (one: Match) => number) =>
      parts.reduce((sum, one) => sum + one.weight * of(one), 0) / Math.max(weight, 1e-9);
    return {
      token: name,
      weight,
      best: parts.map((one) => ({ patch: one.best, weight: one.weight })),
      cosine: mean((one) => one.cosines[one.best] ?? 0),
      cosines: (parts[0]?.cosines ?? []).map((_, patch) => mean((one) => one.cosines[patch] ?? 0)),
    };
  });
}

/** Of one word, every patch: from the middle of all cosines, which says nothing, to the highest. */
export function oneWord(word: Word): number[] {
  const sorted = [...word.cosines].sort((a, b) => a - b);
  const middle = sorted[sorted.length >> 1] ?? 0;
  const most = sorted[sorted.length - 1] ?? 1;
  return word.cosines.map((cosine) => Math.max(0, (cosine - middle) / Math.max(most - middle, 1e-9)) ** 2);
}

/** Of all words, the patches that are best for one of them: by what these add to the score. */
export function everyWord(words: readonly Word[], patches: number): number[] {
  const found = new Array<number>(patches).fill(0);
  for (const word of words)
    for (const { patch, weight } of word.best)
      found[patch] = (found[patch] ?? 0) + weight * Math.max(word.cosine, 0);
  const most = Math.max(...found, 1e-9);
  return found.map((value) => (value ? 0.25 + (0.75 * value) / most : 0));
}
