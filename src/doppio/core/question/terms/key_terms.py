"""The key terms of a question: codes, quoted phrases and names first, then words by how rare they are here."""

from collections.abc import Iterator, Mapping

import regex

from doppio.core.kinds import Setting, Settings, number, switch, whole
from doppio.core.question.kind import Corpus
from doppio.core.text.stop_words import STOP_WORDS

_QUOTED = regex.compile(r"[\"“”«»„]([^\"“”«»„]{2,80})[\"“”«»„]")
_WORD = regex.compile(r"[\p{L}\p{N}][\p{L}\p{N}\p{M}._+@:/&#%\-'’]*[\p{L}\p{N}]|[\p{L}\p{N}]")
_CODE = regex.compile(r"\p{N}|^\p{Lu}{2,}|\p{Ll}\p{Lu}")
# Words that ask and say nothing of what is asked for; they are in no list of stop words.
_ASKING = frozenset(
    """tell explain describe show list give please kindly need want know find mean means happen happens possible
    allowed exactly actually someone somebody something anything""".split()
)


class KeyTerms:
    """See the module. A code or a word of a quoted phrase weighs `first`, the rarest word 1, all others less."""

    name, title, order = "key-terms", "key terms, by rule", 2
    summary = "at most {most}"
    settings: tuple[Setting, ...] = (
        whole("most", "At most, in terms", 1, 50, 6),
        number("first", "Weight of codes and quoted phrases", 1, 10, 1.5),
        switch("by_rarity", "Rare words weigh more", True),
    )

    def words(self, question: str, corpus: Corpus, settings: Settings) -> Mapping[str, float] | None:
        first = dict.fromkeys(self._first(question), settings["first"])
        stopped = STOP_WORDS.get(corpus.language, frozenset())
        rest = [
            word
            for word in dict.fromkeys(match[0] for match in _WORD.finditer(question))
            if word not in first and word.casefold() not in stopped and word.casefold() not in _ASKING
        ]
        rarity = corpus.rarity(rest)
        most = max(rarity, default=0.0) or 1.0
        ranked = sorted(zip(rest, rarity, strict=True), key=lambda pair: -pair[1])
        weights = {word: value / most if settings["by_rarity"] else 1.0 for word, value in ranked}
        found = first | {word: weight for word, weight in weights.items() if weight > 0}
        # A question of small words alone is asked as it is.
        return dict(list(found.items())[: settings["most"]]) or None

    def _first(self, question: str) -> Iterator[str]:
        for phrase in _QUOTED.finditer(question):
            yield from (match[0] for match in _WORD.finditer(phrase[1]))
        for match in _WORD.finditer(question):
            if _CODE.search(match[0]):
                yield match[0]


KIND = KeyTerms()
