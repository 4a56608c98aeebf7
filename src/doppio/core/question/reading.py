"""From a question to what is searched by: its search terms, its other wordings, and which of them drifted too far."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Settings
from doppio.core.question.conditions import together
from doppio.core.question.kind import EVERY_WORD, SEARCH_TERMS, WORDINGS, Corpus, Wording

TYPED = "typed by hand"


@dataclass(frozen=True)
class Beside:
    """What a person says beside a question, for this once.

    wordings : other wordings of it
    words : what branches of terms search by, with weights; None where the recipe decides
    conditions : under which chunks may be found, besides the recipe's own
    without : terms that branches which add some leave out
    picture : a picture to ask by, PNG or JPEG, as `formats.drawing` draws it; None where there is none
    share : what the picture counts beside the question's words, 0 to 1
    """

    wordings: tuple[str, ...] = ()
    words: Mapping[str, float] | None = None
    conditions: str = ""
    without: frozenset[str] = frozenset()
    picture: bytes | None = field(default=None, repr=False)
    share: float = 0.5

    def turn(self, question: str) -> float | None:
        """What its picture counts, 0 to 1: all where the question has no words; None where there is no picture."""
        if self.picture is None:
            return None
        return self.share if question.strip() else 1.0

    def with_own(self, own: "Beside") -> "Beside":
        """The same with what belongs to the question: its conditions too, and its picture where there is no other."""
        found = replace(self, conditions=together(own.conditions, self.conditions))
        return found if self.picture is not None else replace(found, picture=own.picture, share=own.share)


NOTHING_BESIDE = Beside()


@dataclass(frozen=True)
class Drifted:
    """How far a wording is from the question, and whether that is too far.

    cosine : None where no branch has vectors
    kept : share of the question's terms that it keeps
    """

    cosine: float | None
    kept: float
    dropped: str = ""


def changes_nothing(settings: Settings) -> bool:
    """Whether a question is searched by as it stands."""
    return settings["terms"]["kind"] == EVERY_WORD and not settings["wordings"] and not settings["conditions"].strip()


def words_of(question: str, corpus: Corpus, settings: Settings, beside: Beside) -> Mapping[str, float] | None:
    """What branches of terms search by; None where it is all words of the question."""
    if beside.words is not None:
        return beside.words
    return SEARCH_TERMS.get(settings["terms"]["kind"]).words(question, corpus, settings["terms"])


def other_wordings(question: str, corpus: Corpus, settings: Settings, beside: Beside) -> list[Wording]:
    """Other wordings, those that are typed first; what says the same again is left out."""
    found = [Wording(text, TYPED) for text in beside.wordings]
    for way in settings["wordings"]:
        found += WORDINGS.get(way["kind"]).wordings(question, corpus, way)
    once: dict[str, Wording] = {}
    for wording in found:
        once.setdefault(_plain(wording.text), wording)
    once.pop(_plain(question), None)
    return list(once.values())


def drift(
    asked: Sequence[str],
    terms: Sequence[str],
    vector: NDArray[np.float32] | None,
    own: NDArray[np.float32] | None,
    settings: Settings,
) -> Drifted:
    """How far a wording has drifted.

    Parameters
    ----------
    asked, terms : sequences of str
        Terms of the question and of the wording.
    vector, own : (d,) float32 arrays or None
        The wording's and the question's.
    """
    wanted = set(asked)
    kept = len(wanted & set(terms)) / len(wanted) if wanted else 1.0
    cosine = None
    if vector is not None and own is not None:
        lengths = float(np.linalg.norm(vector) * np.linalg.norm(own))
        cosine = float(vector @ own) / lengths if lengths else 0.0
    least, share = settings["least_cosine"], settings["least_kept"]
    why = ""
    if least is not None and cosine is not None and cosine < least:
        why = f"cosine {cosine:.2f} is below {least:g}"
    elif share is not None and kept < share:
        why = f"keeps {kept:.0%} of the terms, below {share:.0%}"
    return Drifted(cosine, kept, why)


def _plain(text: str) -> str:
    return " ".join(text.split()).casefold()
