"""Words of the corpus that mean much the same, from its vocabulary by their vectors."""

from collections.abc import Sequence

from doppio.core.kinds import Setting, Settings, number, whole
from doppio.core.question.kind import Corpus, Wording
from doppio.core.question.wordings.weighed import with_words


class NearWords:
    """See the module. It needs a branch of expanded terms, which has the vectors; without one it adds nothing."""

    name, title, order = "near-words", "words of the corpus near to it", 3
    summary = "{terms} words"
    settings: tuple[Setting, ...] = (
        whole("terms", "Words added", 1, 100, 8, help="needs a branch that adds terms; without one none is added"),
        number("weight", "Weight", 0.01, 1, 0.3, help="beside 1 for a word of the question"),
    )

    def wordings(self, question: str, corpus: Corpus, settings: Settings) -> Sequence[Wording]:
        words = corpus.near_words(question, settings["terms"])
        return with_words(question, words, settings["weight"], f"{len(words)} words of the corpus")


KIND = NearWords()
