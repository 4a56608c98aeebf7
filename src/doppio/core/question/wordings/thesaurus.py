"""Words with the same sense, from a general thesaurus where one is installed."""

from collections.abc import Sequence

from doppio.core.kinds import Setting, Settings, number, whole
from doppio.core.question.kind import Corpus, Wording
from doppio.core.question.wordings.weighed import with_words
from doppio.core.text.stop_words import STOP_WORDS
from doppio.core.text.thesaurus import installed
from doppio.core.text.units import folded_words

LONGEST_PHRASE = 3


class OfThesaurus:
    """See the module. Words that no chunk of the corpus holds are left out, so it adds only what can be found."""

    name, title, order = "thesaurus", "words of the same sense", 4
    summary = "{senses} senses a word"
    settings: tuple[Setting, ...] = (
        whole("senses", "Senses of a word", 1, 10, 1, help="the commonest ones; English, where WordNet's data are "
              "installed (Debian's wordnet-base)"),
        whole("terms", "Words added, a word", 1, 20, 3),
        number("weight", "Weight", 0.01, 1, 0.3, help="beside 1 for a word of the question"),
    )  # fmt: skip

    def wordings(self, question: str, corpus: Corpus, settings: Settings) -> Sequence[Wording]:
        thesaurus = installed()
        if thesaurus is None or corpus.language not in ("en", "any"):
            return []
        stopped, found = STOP_WORDS["en"], list[str]()
        for word in dict.fromkeys(folded_words(question)):
            if not word or word in stopped:
                continue
            alike = [one for one in thesaurus.alike(word, settings["senses"]) if one.count(" ") < LONGEST_PHRASE]
            there = [one for one, rare in zip(alike, corpus.rarity(alike), strict=True) if rare > 0]
            found += there[: settings["terms"]]
        return with_words(question, list(dict.fromkeys(found)), settings["weight"], "the thesaurus")


KIND = OfThesaurus()
