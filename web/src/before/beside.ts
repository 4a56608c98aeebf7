// What is said beside the pinned question, for this once: it lives in the address, beside the pin.
import { useCallback } from "react";
import { useSearchParams } from "react-router";
import { HALF } from "../shell/pin";

export interface Beside {
  /** Conditions on what may be found. */
  only: string;
  /** Search terms instead of the recipe's; empty where the recipe decides. */
  words: string;
  /** Other wordings. */
  wordings: string[];
  /** Terms that branches which add some leave out. */
  without: string[];
  /** A picture that is asked by; null where there is none. */
  picture: string | null;
  /** What it counts beside the words, 0 to 1. */
  share: number;
}

export function useBeside(): Beside {
  const [parameters] = useSearchParams();
  return {
    only: parameters.get("only") ?? "",
    words: parameters.get("words") ?? "",
    wordings: parameters.getAll("say"),
    without: parameters.getAll("without"),
    picture: parameters.get("picture"),
    share: Number(parameters.get("share") ?? HALF),
  };
}

/** Says something else beside the question; what is left out stays. */
export function useSay() {
  const [, set] = useSearchParams();
  return useCallback(
    (to: Partial<Beside>) =>
      set((before) => {
        const next = new URLSearchParams(before);
        if (to.only !== undefined) put(next, "only", to.only);
        if (to.words !== undefined) put(next, "words", to.words);
        if (to.wordings !== undefined) {
          next.delete("say");
          to.wordings.forEach((wording) => next.append("say", wording));
        }
        if (to.without !== undefined) {
          next.delete("without");
          to.without.forEach((term) => next.append("without", term));
        }
        return next;
      }),
    [set],
  );
}

function put(parameters: URLSearchParams, name: string, value: string) {
  if (value.trim()) parameters.set(name, value);
  else parameters.delete(name);
}

export const isNothing = (beside: Beside): boolean =>
  !beside.only && !beside.words && beside.wordings.length === 0 && beside.without.length === 0;

/** As the API takes it. */
export const asParameters = ({ only, words, wordings, without, picture, share }: Beside) => ({
  ...(only ? { only } : {}),
  ...(words ? { words } : {}),
  ...(wordings.length ? { wording: wordings } : {}),
  ...(without.length ? { without: without.join(",") } : {}),
  ...(picture ? { picture, share } : {}),
});

/** Words with their weights as they are typed: `gust 1.5, wind`. */
export const typed = (words: Record<string, number>): string =>
  Object.entries(words)
    .map(([word, weight]) => (weight === 1 ? word : `${word} ${Number(weight.toFixed(3))}`))
    .join(", ");

/** The words of a text as somebody would type them to search by. */
export const plainWords = (text: string): Record<string, number> =>
  Object.fromEntries(
    text
      .split(/[\s,;?!"“”()]+/)
      .map((word) => word.replace(/^[.:']+|[.:']+$/g, ""))
      .filter(Boolean)
      .map((word) => [word, 1]),
  );
