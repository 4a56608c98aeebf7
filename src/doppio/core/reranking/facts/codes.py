"""Codes of the question that stand in the passage as they are."""

import numpy as np
import regex

from doppio.core.kinds import Setting
from doppio.core.reranking.facts.kind import Floats, Shortlist

# A word that holds a digit, or signs inside of it, or small and capital letters mixed.
_CODE = regex.compile(r"(?<![\p{L}\p{N}])[\p{L}\p{N}][\p{L}\p{N}_./:#+-]*[\p{L}\p{N}]")
_TELLS = regex.compile(r"\p{N}|\p{L}[_./:#+]\p{L}|\p{Ll}\p{Lu}|\p{Lu}{2}")


class Codes:
    """The share of the question's codes that the passage holds letter by letter; 0 where the question has none."""

    name, title, order = "codes", "codes that match exactly", 6
    settings: tuple[Setting, ...] = ()

    def of(self, shortlist: Shortlist) -> Floats:
        codes = {word for word in _CODE.findall(shortlist.question) if _TELLS.search(word)}
        if not codes:
            return np.zeros(len(shortlist.candidates))
        whole = [regex.compile(rf"(?<![\p{{L}}\p{{N}}]){regex.escape(code)}(?![\p{{L}}\p{{N}}])") for code in codes]
        return np.array(
            [sum(bool(code.search(one.indexed)) for code in whole) / len(whole) for one in shortlist.candidates]
        )


KIND = Codes()
