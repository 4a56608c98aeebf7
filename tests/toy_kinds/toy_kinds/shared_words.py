"""A kind of scorer: the share of the question's words that stand in the passage."""

from collections.abc import Sequence

import numpy as np

from doppio.core.fingerprint import fingerprint
from doppio.core.kinds import Setting, Settings, whole
from doppio.core.models.joint import JointScorer, Passage, Scored
from doppio.core.models.registry import Models
from doppio.core.reranking.kind import Offered
from doppio.core.store.pieces import Maker, Needs, Opening, Planning

NAME = "shared-words"


class Scorer:
    name, measure, calibration, blend = NAME, "share of the question's words, 0 to 1", None, 0.0

    def __init__(self, shortest: int) -> None:
        self._shortest = shortest
        self.digest = fingerprint(NAME, shortest)

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        asked = {word for word in question.casefold().split() if len(word) >= self._shortest}
        shares = [len(asked & set(passage.text.casefold().split())) / max(len(asked), 1) for passage in passages]
        return Scored(np.array(shares, np.float32), (None,) * len(passages))


class SharedWords:
    name, title = NAME, "shared words"
    settings: tuple[Setting, ...] = (whole("shortest", "Letters of the shortest word", 1, 20, 3),)
    makers: Sequence[Maker] = ()

    def offers(self, models: Models) -> list[Offered]:
        return [Offered(NAME, "words in common")]

    def needs(self, name: str, planning: Planning) -> Needs:
        return Needs()

    def open(self, name: str, settings: Settings, opening: Opening) -> JointScorer:
        return Scorer(settings["shortest"])

    def alone(self, name: str, models: Models) -> JointScorer:
        return Scorer(3)


KIND = SharedWords()
