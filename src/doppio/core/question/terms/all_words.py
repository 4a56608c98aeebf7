"""All words of the question, as they are."""

from collections.abc import Mapping

from doppio.core.kinds import Setting, Settings
from doppio.core.question.kind import EVERY_WORD, Corpus


class AllWords:
    """See the module."""

    name, title, order = EVERY_WORD, "all words of the question", 1
    settings: tuple[Setting, ...] = ()

    def words(self, question: str, corpus: Corpus, settings: Settings) -> Mapping[str, float] | None:
        return None


KIND = AllWords()
